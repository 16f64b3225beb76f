"""What is told of chips: a line of their index each, and the statistics that learners normalize by."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from zembrel.deliver.chips.stores import Chip
from zembrel.moments import Moments


class ChipTotals:
    """Sums over the valid cells of chips for training: of each band, and how many cells have each label."""

    def __init__(self, bands: int) -> None:
        self.moments = Moments(0, np.zeros(bands), np.zeros(bands))
        self.low, self.high = np.full(bands, np.inf), np.full(bands, -np.inf)
        self.classes: dict[int, int] = {}

    def add(self, chip: Chip) -> None:
        values = chip.image.reshape(len(chip.image), -1) if chip.valid is None else chip.image[:, chip.valid]
        values = values.astype(np.float64)
        self.moments = self.moments.plus(Moments.of(values))
        self.low, self.high = np.minimum(self.low, values.min(1)), np.maximum(self.high, values.max(1))
        if chip.label is not None:
            for code, count in zip(*np.unique(chip.label, return_counts=True), strict=True):
                self.classes[int(code)] = self.classes.get(int(code), 0) + int(count)

    def facts(self, names: Sequence[str]) -> dict[str, Any]:
        mean, deviation = np.nan_to_num(self.moments.mean), np.nan_to_num(self.moments.deviation)
        rows = zip(
            names, mean.tolist(), deviation.tolist(), self.low.tolist(), self.high.tolist(), strict=True
        )
        bands = [dict(zip(("name", "mean", "deviation", "low", "high"), row, strict=True)) for row in rows]
        return {
            "cells": int(self.moments.count),
            "bands": bands,
            "classes": {str(k): v for k, v in sorted(self.classes.items())},
        }


def index_row(chip: Chip, place: str) -> dict[str, Any]:
    """The line of a chip in the index."""
    west, south, east, north = chip.frame.bounds
    row: dict[str, Any] = {"number": chip.number, "split": chip.split, "place": place}
    row |= {"west": west, "south": south, "east": east, "north": north, "valid": float(chip.known.mean())}
    if chip.label is not None:
        codes, counts = np.unique(chip.label, return_counts=True)
        found = zip(codes.tolist(), counts.tolist(), strict=True)
        row["classes"] = [{"code": code, "share": number / chip.label.size} for code, number in found]
    return row
