"""What a pack says of itself, whatever its kind."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from zembrel.grid.tiling import Bounds, Tiling
from zembrel.provenance import KEY, document

TYPES = {"png": "image/png", "jpeg": "image/jpeg", "webp": "image/webp"}
_CLOSE = 1e-7  # degrees
ENDINGS = {"png": "png", "jpeg": "jpg", "webp": "webp"}


@dataclass(frozen=True)
class PackFacts:
    """Name, tiles and place of a pack.

    lowest and highest: zooms; bounds: west, south, east and north of the data in degrees; cells: along a side
    of a tile; format: of most tiles; mixed: whether others have another; elevation: the numbers of the
    formula that makes heights of colours; provenance: the steps behind it, as JSON.
    """

    name: str
    tiling: Tiling
    lowest: int
    highest: int
    bounds: Bounds
    cells: int = 256
    format: str = "png"
    mixed: bool = False
    attribution: str = ""
    description: str = ""
    elevation: Mapping[str, Any] = field(default_factory=dict)
    provenance: str | None = field(default_factory=document)

    @property
    def centre(self) -> tuple[float, float, int]:
        """Longitude, latitude and zoom at which a viewer may begin."""
        west, south, east, north = self.bounds
        lon = ((west + east) / 2 + 180) % 360 - 180
        return lon, (south + north) / 2, (self.lowest + self.highest + 1) // 2

    @property
    def told_bounds(self) -> Bounds:
        """Bounds as standards have them, between 180 W and 180 E: all of that for data that lie across."""
        west, south, east, north = self.bounds
        if west < -180 - _CLOSE or east > 180 + _CLOSE:
            return -180.0, south, 180.0, north
        return max(west, -180.0), south, min(east, 180.0), north

    def tile_json(self, address: str, scheme: str = "xyz") -> dict[str, Any]:
        """TileJSON 3.0.0 for tiles at `address`, with {z}, {x} and {y}."""
        facts: dict[str, Any] = {
            "tilejson": "3.0.0", "name": self.name, "tiles": [address], "scheme": scheme,
            "minzoom": self.lowest, "maxzoom": self.highest,
            "bounds": [round(side, 9) for side in self.told_bounds],
            "center": [round(self.centre[0], 9), round(self.centre[1], 9), self.centre[2]],
        }  # fmt: skip
        facts |= {"attribution": self.attribution} if self.attribution else {}
        facts |= {"description": self.description} if self.description else {}
        facts |= {KEY: json.loads(self.provenance)} if self.provenance is not None else {}
        if (
            self.bounds[2] > 180 + _CLOSE and self.bounds[2] - self.bounds[0] < 360 - _CLOSE
        ):  # for pages that can show it as one piece
            facts |= {"extent": [round(side, 9) for side in self.bounds]}
        facts |= {"tile_matrix_set": self.tiling.name, "tile_cells": self.cells}
        return facts | ({"elevation": dict(self.elevation)} if self.elevation else {})

    def text(self, address: str, scheme: str = "xyz") -> str:
        """The same as text."""
        return json.dumps(self.tile_json(address, scheme), indent=1) + "\n"
