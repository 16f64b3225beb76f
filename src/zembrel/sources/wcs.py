"""Coverages of OGC WCS 2.0 services: their own cells, as GeoTIFF.

Sources: OGC 09-110r4 (core), OGC 09-147r3 (keys and values), OGC 12-039 (scaling). Only rectified grids along
the axes of their CRS are read.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from xml.etree.ElementTree import Element

import numpy as np

from zembrel.errors import RemoteError
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band
from zembrel.sources.crsnames import crs_named
from zembrel.sources.documents import misses, numbers, text, texts, xml_at
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tilecells import TileCells, raw_cells
from zembrel.sources.tiled import holding_of, nothing_there
from zembrel.sources.wish import MARGIN, SourceLayer, SourceLayers, Wish
from zembrel.sources.wms import asked, picked
from zembrel.web.asking import Request

_SIDE = 1_024  # cells of a part that is asked for
_LEVELS = 6


@dataclass(frozen=True)
class Grid:
    """The grid of a coverage: the labels of its axes, x first, its CRS and its frame."""

    x: str
    y: str
    frame: Frame


@dataclass(frozen=True)
class CoverageAddresses:
    """Addresses of parts of a coverage. step: cells of the coverage along one that is asked for."""

    source: SourceFile
    name: str
    grid: Grid
    frame: Frame
    side: tuple[int, int]
    step: int

    def piece(self, row: int, column: int) -> Request:
        """The part of a block; one that reaches beyond the coverage is asked for as it is."""
        down, across = self.side
        west, south, east, north = self.frame.bounds_of(
            Pane(row * down, column * across, (row + 1) * down, (column + 1) * across)
        )
        said = [
            ("service", "WCS"), ("version", "2.0.1"), ("request", "GetCoverage"), ("coverageId", self.name),
            ("subset", f"{self.grid.x}({west!r},{east!r})"),
            ("subset", f"{self.grid.y}({south!r},{north!r})"),
            ("format", "image/tiff"),
        ]  # fmt: skip
        if self.step > 1:
            said.append(("scaleSize", f"{self.grid.x}({across}),{self.grid.y}({down})"))
        return asked(self.source, said)


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """A coverage as a raster of its own cells; with coarser levels where the service scales."""
    held = service.believing(86_400)
    root = xml_at(held, _request(source, "GetCapabilities"), ("Capabilities",))
    name = picked(
        source, {one: one for one in texts(root, "Contents/CoverageSummary/CoverageId")}, "coverage"
    )
    request = _request(source, "DescribeCoverage", ("coverageId", name))
    described = xml_at(held, request, ("CoverageDescriptions",))
    grid = _grid(source, described)
    scales = any("scaling" in profile for profile in texts(root, "ServiceIdentification/Profile"))
    frames = [
        part
        for n in range(_LEVELS if scales else 1)
        if (part := _part(source, wish, grid.frame, 1 << n)) is not None
    ]
    if not frames:
        raise nothing_there(source)
    levels = [
        CoverageAddresses(
            source, name, grid, frame, (min(_SIDE, frame.rows), min(_SIDE, frame.columns)), 1 << n
        )
        for n, frame in enumerate(frames)
    ]
    holding = probed(service, source, levels[0].piece(0, 0), levels[0].side)
    rasters = [
        RemoteBlocks(service, one, replace(holding, shape=one.side), one.frame, one.side) for one in levels
    ]
    whole = replace(rasters[0], coarser_ones=tuple(rasters[1:]))
    return SourceLayers((SourceLayer(f"{source.name}-{name}", whole),), (f"coverage {name}",))


def _request(source: SourceFile, kind: str, *more: tuple[str, str]) -> Request:
    return asked(source, [("service", "WCS"), ("version", "2.0.1"), ("request", kind), *more])


def _grid(source: SourceFile, described: Element) -> Grid:
    """The grid of a description. Raises RemoteError for one that is not along the axes of a known CRS."""
    grid = described.find(".//RectifiedGrid")
    if grid is None:
        raise misses(source.name, "a rectified grid")
    point = grid.find("origin/Point")
    envelope = described.find(".//Envelope")
    name = (point.get("srsName") if point is not None else None) or (
        envelope.get("srsName") if envelope is not None else ""
    )
    meant = crs_named(name or "")
    labels = text(grid, "axisLabels").split() or (
        envelope.get("axisLabels", "").split() if envelope is not None else []
    )
    try:
        low, high = (numbers(text(grid, f"limits/GridEnvelope/{end}")) for end in ("low", "high"))
        origin = numbers(text(grid, "origin/Point/pos"))
        vectors = [numbers(words) for words in texts(grid, "offsetVector")]
    except ValueError as exc:
        raise misses(source.name, "its grid in numbers") from exc
    if (
        meant is None
        or len(labels) != 2
        or len(origin) != 2
        or [len(v) for v in vectors] != [2, 2]
        or len(low) != 2
    ):
        raise misses(source.name, "a grid of two axes in a CRS that is known here")
    crs, y_first = meant
    if envelope is not None and len(envelope.get("axisLabels", "").split()) == 2:
        labels = envelope.get("axisLabels", "").split()
    if y_first:
        origin, vectors, labels = origin[::-1], [vector[::-1] for vector in vectors], labels[::-1]
    return Grid(labels[0], labels[1], _frame(source, crs, origin, vectors, (low, high)))


def _frame(
    source: SourceFile,
    crs: CRS,
    origin: list[float],
    vectors: list[list[float]],
    limits: tuple[list[float], list[float]],
) -> Frame:
    """The frame of a grid whose origin is the middle of its first cell."""
    low, high = limits
    along = next((n for n, vector in enumerate(vectors) if vector[0] != 0 and vector[1] == 0), None)
    if along is None or vectors[1 - along][0] != 0 or vectors[1 - along][1] == 0:
        raise misses(source.name, "a grid along the axes of its CRS")
    across, up = vectors[along][0], vectors[1 - along][1]
    columns, rows = (round(high[n] - low[n]) + 1 for n in (along, 1 - along))
    west = origin[0] + low[along] * across - across / 2
    north = origin[1] + low[1 - along] * up - up / 2
    if across < 0 or up > 0:
        west, north = (
            (west + across * columns if across < 0 else west),
            (north + up * rows if up > 0 else north),
        )
    return Frame(crs, Affine(west, north, abs(across), -abs(up)), columns, rows)


def _part(source: SourceFile, wish: Wish, frame: Frame, step: int) -> Frame | None:
    """What of the grid is wanted, in cells `step` times as large; None if nothing."""
    assert frame.crs is not None
    bounds = wish.bounds_in(frame.crs, source.get("bounds"))
    pane = frame.pane
    if bounds is not None:
        met = frame.pane_of(*bounds).grown(MARGIN * step).meet(frame.pane)
        if met is None:
            return None
        pane = met
    top, left = pane.top // step * step, pane.left // step * step
    rows, columns = math.ceil((pane.bottom - top) / step), math.ceil((pane.right - left) / step)
    corner = frame.affine.shifted(left, top)
    cells = Affine(corner.x0, corner.y0, corner.x_col * step, corner.y_row * step)
    return Frame(frame.crs, cells, rows=rows, columns=columns)


def probed(service: Service, source: SourceFile, piece: Request, shape: tuple[int, int]) -> TileCells:
    """What cells a service gives, by one answer of it. Raises RemoteError where there is none."""
    holding = holding_of(source, shape)
    if holding.holds in ("colours", "codes"):
        return holding
    kept = service.piece(piece, holding.check)
    if kept.status != 200:
        raise nothing_there(source)
    try:
        cells = raw_cells(kept.data)
    except ValueError as exc:
        what = f"{piece.told} cannot be used"
        raise RemoteError(what, str(exc), "check the source: format, holds") from exc
    name = "height" if holding.holds == "heights" else "band"
    unit = holding.unit or ("m" if holding.holds == "heights" else "")
    bands = tuple(
        Band(
            name if len(cells) == 1 else f"{name}{n + 1}",
            np.dtype(cells.dtype).name,
            holding.nodata,
            unit=unit,
        )
        for n in range(len(cells))
    )
    return replace(holding, holds="values", values=bands)


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The coverages."""
    root = xml_at(service, _request(source, "GetCapabilities"), ("Capabilities",))
    return [(name, "", "coverage") for name in texts(root, "Contents/CoverageSummary/CoverageId")]
