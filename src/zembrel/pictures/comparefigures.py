"""What compare draws: both layers, their difference, and its histogram; on a picture, or a page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.draw.colouring import ColouredCells, Look, painted
from zembrel.draw.compared import Bars, Panel, draw_comparison
from zembrel.draw.page import comparison_page
from zembrel.engine.commit import Staging, resource_errors
from zembrel.geodesy.crs import label
from zembrel.inputs.options import Output
from zembrel.measure import show_fixed, show_number
from zembrel.raster.difference import Differences, Disagreeing, Subtracted
from zembrel.raster.model import Band, Raster, is_photo
from zembrel.raster.views.bands import Relabelled, select_bands
from zembrel.results.phrases import show_cell

_PANEL, _PAGE = 700, 1600  # pixels along a side of a layer
_BARS = 61
_CONFUSED = 5  # pairs of classes that are named
_SHARE = 99.0  # per cent of differences that the colours and bars span


class ComparedPair(NamedTuple):
    """Two rasters on the same cells, what was found of them, and what they are called."""

    one: Raster
    other: Raster
    found: Differences
    facts: Mapping[str, Any]
    names: tuple[str, str]

    @property
    def sign(self) -> str:
        """What the picture of the difference shows."""
        return "where they differ" if self.of_classes else f"{self.names[0]} less {self.names[1]}"

    @property
    def of_classes(self) -> bool:
        return self.facts["classes"] is not None

    @property
    def band(self) -> Band:
        return self.one.bands[0]


def names_of(paths: Sequence[Path]) -> tuple[str, str]:
    """Short names of two files that tell them apart."""
    one, other = (path.stem for path in paths)
    return (one, other) if one != other else (str(paths[0]), str(paths[1]))


def write_figure(compared: ComparedPair, out: Path, output: Output) -> None:
    """A picture of both layers, the difference, and its histogram."""
    titles = (*compared.names, compared.sign)
    layers = _layers(compared, output, _PANEL)
    panels = [Panel(title, made) for title, made in zip(titles, layers, strict=True)]
    words = words_of(compared.facts, compared.band)
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            draw_comparison(panels, _bars(compared), words, staged, Look())
        staging.publish()


def write_page(compared: ComparedPair, out: Path, output: Output) -> None:
    """A page on which both are swiped, flickered and subtracted."""
    frame = compared.one.frame
    place = f"{label(frame.crs)} · {show_cell(frame)} · {frame.columns:,} x {frame.rows:,} cells"
    words = words_of(compared.facts, compared.band)
    layers = _layers(compared, output, _PAGE)
    text = comparison_page(compared.names, layers, words, place, compared.sign)
    with Staging(output.replace) as staging:
        staging.write_text(out, text)
        staging.publish()


def words_of(facts: Mapping[str, Any], band: Band) -> list[tuple[str, str]]:
    """The facts of a comparison, by name."""
    unit = f" {band.unit}" if band.unit else ""
    rows = [("verdict", facts["verdict"]), ("compared", f"{facts['cells']:,} cells")]
    if facts["first_alone"] or facts["second_alone"]:
        rows.append(("only in one", f"{facts['first_alone']:,} and {facts['second_alone']:,} cells"))
    if facts["classes"] is not None:
        rows += _confusion(facts["classes"])
    elif facts["cells"]:
        sizes = ", ".join(f"{facts['percentiles'][share]:.4g}" for share in ("50", "95", "99"))
        rows.append(("bias, rms", f"{facts['bias']:.4g}, {facts['rms']:.4g}{unit}"))
        rows.append(("50, 95, 99 %", f"within {sizes}{unit}"))
    if facts["worst"] is not None and facts["classes"] is None:
        worst = facts["worst"]
        rows.append(("worst", f"{worst['difference']:.4g}{unit} at {worst['x']:,.10g}, {worst['y']:,.10g}"))
    for row in facts["shares"]:
        if row["within"]:
            rows.append((f"within {row['within']:g}{unit}", f"{100 * row['share']:.4g} %"))
    shift = facts["shift"]
    if shift is not None:
        across, along = (show_fixed(shift[key], 3, sign=True) for key in ("columns", "rows"))
        rows.append(("shift", f"{across} columns, {along} rows (confidence {shift['confidence']:.2f})"))
    return rows


def _confusion(classes: Mapping[str, Any]) -> list[tuple[str, str]]:
    """The agreement of classes, and which are confused most."""
    rows = [("agreement", f"{100 * classes['agreement']:.4g} %, kappa {classes['kappa']:.3f}")]
    for row in classes["confused"][:_CONFUSED]:
        one, other = (
            name or str(row[key]) for name, key in zip(row["names"], ("first", "second"), strict=True)
        )
        rows.append((f"{row['cells']:,} cells", f"{one} became {other}"))
    return rows


def _layers(
    compared: ComparedPair, output: Output, pixels: int
) -> tuple[ColouredCells, ColouredCells, ColouredCells]:
    """Both layers in the same colours, and the difference around white."""
    one, other, found = compared.one, compared.other, compared.found
    most, look = _most(found), Look()
    first, second = (painted(raster, look, output.limits, pixels) for raster in (one, other))
    ends = [made.key.limits for made in (first, second) if made.key is not None and made.key.ramp]
    if len(ends) == 2 and first.key is not None:
        span = min(low for low, _ in ends), max(high for _, high in ends)
        look = Look(ramp=first.key.ramp, limits=span)
        first, second = (painted(raster, look, output.limits, pixels) for raster in (one, other))
    if compared.of_classes:
        return first, second, painted(Disagreeing(one, other), Look(), output.limits, pixels)
    name = "difference of red" if is_photo(one.bands) else "difference"
    bands = tuple(Band(name, "float64", unit=band.unit) for band in one.bands)
    apart: Raster = Relabelled(Subtracted(one, other), bands)
    if is_photo(one.bands):
        apart = select_bands(apart, (0,))
    around = Look(ramp="RdBu", limits=(-most, most))
    return first, second, painted(apart, around, output.limits, pixels)


def _most(found: Differences) -> float:
    """What the colours of the difference span."""
    if not found.cells or found.equal == found.cells:
        return 1.0
    most = found.percentiles([_SHARE])[0] or max(abs(found.low), abs(found.high))
    return most if np.isfinite(most) else 1.0


def _bars(compared: ComparedPair) -> Bars | None:
    found, unit = compared.found, compared.band.unit
    if not found.cells or found.equal == found.cells or compared.of_classes:
        return None
    most = _most(found)
    edges = np.linspace(-most, most, _BARS + 1)
    name = f"difference ({unit})" if unit else "difference"
    return Bars(edges, found.histogram(edges), f"{name}, {show_number(_SHARE)} % of cells")
