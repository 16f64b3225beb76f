"""Receipts: what a verb read, chose, wrote and checked. Facts with types; the command line words them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.errors import ZembrelError
from zembrel.facts import Fact
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import crs_text
from zembrel.reading import readings

LOSSES = 7  # exit code of a run that ended with listed losses


class Loss(NamedTuple):
    """An input that could not be done, and why."""

    input: Path | str
    error: ZembrelError

    @property
    def facts(self) -> dict[str, str]:
        """The loss for programs."""
        error = self.error
        return {"input": str(self.input), "error": error.what, "why": error.why, "try": error.remedy}


@dataclass(frozen=True)
class Result:
    """What was written, or in a dry run would be.

    bytes: None before it is written, then `bytes_at_most` counts; count and what: `12` `features`; files:
    their number where `out` is a folder; how: compression and layout in words; beside: files that belong to
    it; free and memory: bytes that a plan found and needs; valid and missing: cells.
    """

    out: Path
    bytes: int | None = None
    bytes_at_most: int | None = None
    format: str | None = None
    frame: Frame | None = None
    bands: int | None = None
    type: str | None = None
    count: int | None = None
    what: str = "features"
    files: int | None = None
    how: tuple[str, ...] = ()
    beside: tuple[Path, ...] = ()
    seconds: float | None = None
    free: int | None = None
    memory: int | None = None
    valid: int | None = None
    missing: int | None = None

    @property
    def facts(self) -> dict[str, Any]:
        """The result for programs: what is known of it."""
        known: dict[str, Any] = {
            name: getattr(self, name)
            for name in ("bytes", "bytes_at_most", "format", "bands", "type", "files", "free", "memory",
                         "valid", "missing")
        }  # fmt: skip
        known |= {"frame": self.frame and frame_facts(self.frame), "count": self.count}
        known |= {"beside": [str(path) for path in self.beside] or None, "how": list(self.how) or None}
        known["seconds"] = None if self.seconds is None else round(self.seconds, 3)
        known["what"] = None if self.count is None else self.what
        return {"out": str(self.out)} | {name: value for name, value in known.items() if value is not None}


@dataclass(frozen=True)
class PointTotals:
    """Points that went on, out of how many, their CRS and layout, and the parts read out of all."""

    count: int
    of: int
    crs: CRS | None = None
    layout: int | None = None
    parts_read: int = 0
    parts: int = 0


@dataclass(frozen=True)
class FeatureTotals:
    """Features by kind, those without a geometry, their CRS, and the names of their fields."""

    count: int
    kinds: tuple[str, ...]
    missing: int
    crs: CRS | None
    fields: tuple[str, ...]


@dataclass(frozen=True)
class Receipt:
    """What became of a run of a verb.

    out: as it was given; planned: nothing was written; touched: the inputs a planned run would read; frame,
    points and features: what the verb worked on; losses: what the result cannot hold; lost: inputs
    that could not be done; products: further files by the option that named them; seconds: of the whole run;
    own: facts of this verb alone; settled: options that `zembrel.toml` said; data: what was asked for, of
    verbs that print it.
    """

    verb: str
    inputs: tuple[Path, ...] = ()
    out: str | None = None
    planned: bool = False
    touched: tuple[Path, ...] = ()
    frame: Frame | None = None
    points: PointTotals | None = None
    features: FeatureTotals | None = None
    chose: tuple[Fact, ...] = ()
    checks: tuple[Fact, ...] = ()
    losses: tuple[Fact, ...] = ()
    lost: tuple[Loss, ...] = ()
    results: tuple[Result, ...] = ()
    products: Mapping[str, Path] = field(default_factory=dict)
    seconds: float | None = None
    own: Mapping[str, Any] = field(default_factory=dict)
    left_alone: tuple[Path, ...] = ()
    settled: Mapping[str, Any] = field(default_factory=dict)
    web: Mapping[str, int] | None = None
    record: Mapping[str, Any] | None = None
    exit_code: int = 0
    data: str | None = None
    plain: bool = True  # whether data is text that may hold anything, and no picture of our own

    @property
    def facts(self) -> dict[str, Any]:
        """The receipt for programs, as `docs/receipt.schema.json` describes it."""
        always: dict[str, Any] = {"inputs": [str(path) for path in self.inputs]}
        always |= {"chose": [item.facts for item in self.chose]}
        always |= {"checks": [item.facts for item in self.checks]}
        always |= {"lost": [loss.facts for loss in self.lost], "results": [r.facts for r in self.results]}
        some = {
            "out": self.out,
            "planned": self.planned,
            "touched": [str(path) for path in self.touched],
            "frame": self.frame and frame_facts(self.frame),
            "losses": [item.facts for item in self.losses],
            "products": {option: str(path) for option, path in self.products.items()},
            "seconds": self.seconds and round(self.seconds, 3),
            "left_alone": [str(path) for path in self.left_alone],
            "settled": dict(self.settled),
            "web": self.web,
            "record": self.record,
        }
        return always | {name: value for name, value in some.items() if value} | dict(self.own)


def finished(receipt: Receipt, web: dict[str, int] | None) -> Receipt:
    """`receipt` with what was asked of the web and what was left alone; empty results are losses."""
    empty = any(result.valid == 0 for result in receipt.results) or receipt.own.get("features") == 0
    return replace(
        receipt,
        exit_code=receipt.exit_code or (LOSSES if empty else 0),
        left_alone=tuple(readings.passed),
        web=web,
    )


def frame_facts(frame: Frame) -> dict[str, Any]:
    """The frame for programs."""
    west, south, east, north = frame.bounds
    return {
        "crs": crs_text(frame.crs) if frame.crs else None,
        "crs_name": frame.crs.name if frame.crs else None,
        "bounds": [west, south, east, north],
        "cell": list(frame.cell),
        "columns": frame.columns,
        "rows": frame.rows,
        "registration": frame.registration,
    }
