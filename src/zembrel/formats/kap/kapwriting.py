"""A writer of charts: a header with reference points and polynomials, rows of runs, the table of rows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.clock import time_of_writing
from zembrel.formats.kap import rows
from zembrel.formats.kap.header import plain, write_header
from zembrel.formats.kap.placing import Array, Polynomial, polynomial
from zembrel.formats.sink import FileStore, Sink
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend
from zembrel.raster.model import Block

MOST_COLOURS = 127
PER_INCH = 254  # cells of a chart in print
_STRIP, _ACROSS = 256, 2_048  # rows of a strip, and columns that are made at a time
_LATTICE = 15  # points each way at which polynomials are fitted
_NEAR, _NEAR_DEGREES = 0.05, 0.05  # cells that they may miss; and of a cell, in degrees
_WGS_84 = 4326


@dataclass(frozen=True)
class ChartFacts:
    """What a chart says of itself; scale: the number below 1; issued: the date of the edition."""

    name: str
    number: str
    scale: float
    edition: str = "1"
    issued: date | None = None


@dataclass(frozen=True)
class ChartPlace:
    """Polynomials from degrees to columns and rows, and back, and how many cells they miss at most."""

    to_column: Polynomial
    to_row: Polynomial
    to_lon: Polynomial
    to_lat: Polynomial

    @property
    def most_off(self) -> float:
        return max(self.to_column.most_off, self.to_row.most_off)


@dataclass(frozen=True)
class ChartEncoder:
    """Codes from 1; void: the code of cells that are invalid."""

    void: int

    def encode(self, pane: Pane, block: Block) -> Any:
        """The codes of a pane, (rows, columns)."""
        codes = block.cells[0]
        return codes if block.valid is None else np.where(block.valid_of(0), codes, np.uint8(self.void))


class ChartStore(FileStore):
    """The header, rows one after the other as runs, and where they are. Panes of a strip come in order."""

    def __init__(self, path: Path, head: bytes, bits: int, columns: int) -> None:
        super().__init__(path, head)
        self._at, self._starts = len(head), list[int]()
        self._bits, self._columns, self._strip = bits, columns, list[Array]()

    def append(self, key: Any, encoded: Any) -> None:
        self._strip.append(encoded)
        if key.right < self._columns:
            return
        codes = np.concatenate(self._strip, axis=1)
        self._strip = []
        out = np.empty(codes.size * 2 + 8 * len(codes), np.uint8)
        ends = np.empty(len(codes), np.int64)
        rows.packed(codes, key.top, self._bits, out, ends)
        self._starts += [self._at, *(self._at + ends[:-1]).tolist()]
        self.file.write(out[: ends[-1]].data)
        self._at += int(ends[-1])

    def finish(self) -> None:
        self.file.write(np.array([*self._starts, self._at], ">u4").tobytes())
        super().finish()


def chart_sink(path: Path, frame: Frame, palette: Legend, void: int, facts: ChartFacts) -> Sink:
    """A sink for codes from 1 on a frame in Mercator."""
    bits = max(1, len(palette.entries).bit_length())
    head = write_header(_lines(frame, palette, facts, bits), bits)
    panes = tuple(frame.pane.blocks(_STRIP, _ACROSS))
    return Sink(panes, ChartEncoder(void), ChartStore(path, head, bits, frame.columns))


def place_of(frame: Frame) -> ChartPlace:
    """The polynomials of a frame, fitted on a lattice over it."""
    u, v, lon, lat = _degrees(frame, np.linspace(0, 1, _LATTICE))
    cell = max(np.ptp(lon) / frame.columns, np.ptp(lat) / frame.rows)
    near = _NEAR_DEGREES * float(cell)
    return ChartPlace(
        polynomial(lon, lat, u, _NEAR), polynomial(lon, lat, v, _NEAR), polynomial(u, v, lon, near),
        polynomial(u, v, lat, near),
    )  # fmt: skip


def _degrees(frame: Frame, shares: Array) -> tuple[Array, Array, Array, Array]:
    """Columns and rows of whole cells at shares of each way, and their longitudes and latitudes; across the
    antimeridian longitudes go on past 180."""
    columns, lines = (np.rint(shares * (n - 1)) for n in (frame.columns, frame.rows))
    u, v = (part.ravel() for part in np.meshgrid(columns, lines))
    x, y = frame.centres(u, v)
    assert frame.crs is not None
    lon, lat = operation(frame.crs, by_code(_WGS_84))(x, y)
    lon = np.unwrap(lon, period=360)
    return u, v, lon + 360 * float(lon.min() < -180), lat


def _lines(frame: Frame, palette: Legend, facts: ChartFacts, bits: int) -> list[tuple[str, list[str]]]:
    """The header, line by line."""
    u, v, lon, lat = _degrees(frame, np.array([0.0, 0.5, 1.0]))
    metres = f"{facts.scale / PER_INCH * 0.0254:.4f}"
    size = [f"RA={frame.columns}", f"{frame.rows}", f"DU={PER_INCH}"]
    known = [
        f"SC={facts.scale:.0f}", "GD=WGS84", "PR=MERCATOR", f"PP={lat[len(lat) // 2]:.9f}", "PI=UNKNOWN",
        "SP=UNKNOWN", "SK=0.0", "TA=90.0", "UN=METERS", "SD=UNKNOWN", f"DX={metres}", f"DY={metres}",
    ]  # fmt: skip
    issue = ["SE=1", f"RE={plain(facts.edition)}", f"ED={facts.issued or time_of_writing():%m/%d/%Y}"]
    lines = [
        ("VER", ["3.0"]), ("BSB", [f"NA={plain(facts.name)}", f"NU={plain(facts.number)}", *size]),
        ("KNP", known), ("CED", issue), ("OST", ["1"]), ("IFM", [str(bits)]),
    ]  # fmt: skip
    lines += [("RGB", [str(entry.code), *map(str, entry.colour[:3])]) for entry in palette.entries]
    corners = [0, 2, 8, 6]  # from the north-west, clockwise
    points = [(u[n], v[n], lon[n], lat[n]) for n in [*corners, 1, 3, 4, 5, 7]]
    shift = (
        180.0 if lon.max() > 180 else 0.0
    )  # of the phase of longitudes, by which the polynomials take them
    lines += _numbered("REF", [(a, b, y, _wrapped(x)) for a, b, x, y in points])
    place = place_of(frame)
    ways = {"WPX": place.to_column, "PWX": place.to_lon, "WPY": place.to_row, "PWY": place.to_lat}
    lines += [(key, [str(way.order), *map(_number, way.coefficients)]) for key, way in ways.items()]
    lines += _numbered("ERR", [_misses(place, *point) for point in points])
    lines += _numbered("PLY", [(y, _wrapped(x)) for _, _, x, y in points[:4]])
    return [*lines, ("DTM", ["0.0", "0.0"]), ("CPH", [f"{shift:.1f}"])]


def _wrapped(lon: float) -> float:
    return lon - 360 if lon > 180 else lon


def _numbered(key: str, rows: Iterable[Iterable[float]]) -> list[tuple[str, list[str]]]:
    return [(key, [str(number), *map(_number, row)]) for number, row in enumerate(rows, 1)]


def _number(value: float) -> str:
    return f"{value:.15g}"


def _misses(place: ChartPlace, u: float, v: float, lon: float, lat: float) -> list[float]:
    """By how much the polynomials miss a point: columns, rows, degrees of latitude and longitude."""
    here, there = (np.array([lon]), np.array([lat])), (np.array([u]), np.array([v]))
    parts = [place.to_column.at(*here) - u, place.to_row.at(*here) - v]
    return [float(part[0]) for part in (*parts, place.to_lat.at(*there) - lat, place.to_lon.at(*there) - lon)]
