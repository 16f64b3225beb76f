"""profile: values of layers along a line, and how far they differ on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.draw.colouring import Look
from zembrel.draw.profiled import Ground, Trace, draw_profile
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact, distinct, fact
from zembrel.features.files.named import split_layer
from zembrel.geodesy.operation import operation
from zembrel.grid.extent import carried_cell
from zembrel.inputs.layers import Layer, check_placed, take_layers
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.methods import codes_in
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.tables import beside
from zembrel.optiontext import OptionText
from zembrel.pictures.alonglines import LinesToFollow, Samples, find_lines, on_earth, sampled
from zembrel.raster.method import parse_method
from zembrel.raster.model import Raster
from zembrel.raster.sampling import values_at
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.csvtext import csv_text
from zembrel.results.endings import PICTURES, check_ending
from zembrel.results.receipt import Receipt
from zembrel.verbs.sample import over_places

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Following:
    """The line to follow and what is made of it.

    along: a phrase, see `find_lines`; along_where: which features of its file; step: between samples, the
    finest cell if not said; table, figure: files, else the table is the answer.
    """

    along: Annotated[str | None, OptionText("Line X,Y,X,Y[@CRS], a file of lines, or `corners`.", "LINE")] = (
        None
    )
    along_where: Annotated[
        str | None, OptionText("Use only matching features of that file.", "CONDITION")
    ] = None
    step: Annotated[
        str | None, OptionText("Distance between samples. Default: the finest cell size.", "LENGTH")
    ] = None
    method: Annotated[
        str, OptionText("auto (bilinear; nearest for classes), nearest, bilinear or cubic.", "NAME")
    ] = "auto"
    table: Annotated[str | None, OptionText("Write the values. Default: stdout.", "CSV")] = None
    figure: Annotated[str | None, OptionText("Draw the values, and their differences below.", "PICTURE")] = (
        None
    )
    title: Annotated[str | None, OptionText("Title of the figure.", "TEXT")] = None

    @property
    def products(self) -> dict[str, Path]:
        """What is to be written, by the option that names it."""
        named = {"table": self.table, "figure": self.figure}
        return {option: Path(path) for option, path in named.items() if path}


class Followed(NamedTuple):
    """A layer's values along the lines, NaN where it has none, and what it and its band are called."""

    name: str
    values: Array
    unit: str
    band: str


def profile(inputs: Inputs, output: Output, following: Following) -> Receipt:
    """Values of every band of every layer along a line, end to end; bilinear, of codes nearest.

    Raises UsageError without a line, InputError where no layer has a value on it.
    """
    if following.along is None:
        raise UsageError(
            "there is no line",
            "values are looked up along one",
            "add --along X,Y,X,Y, a file of lines, or corners",
        )
    for path in following.products.values():
        check_free(path, output.replace)
    if following.figure:
        check_ending(Path(following.figure), PICTURES)
    if split_layer(following.along)[0].is_file():
        *_, inputs = beside(following.along, inputs)
    layers = take_layers(inputs, output)
    check_placed(layers)
    lines = find_lines(following.along, layers[0].raster.frame, _of_lines(inputs, following))
    places = sampled(lines, _step(layers, lines, following))
    followed, chose = [], []
    for layer in layers:
        more, said = _values(layer, lines, places, following.method, output)
        followed += more
        chose.append(said)
    if not any(np.isfinite(one.values).any() for one in followed):
        raise InputError(
            "no layer has a value on the line", "it lies outside, or over voids", "check --along and its CRS"
        )
    _rename(followed)
    header, rows = _table(places, followed, len(lines.parts))
    text = csv_text(header, rows)
    _write(following, output, lines, places, followed, text)
    shown = not following.products and not output.as_facts
    return Receipt(
        "profile",
        tuple(layer.path for layer in layers),
        chose=distinct(chose),
        products=following.products,
        own=_facts(lines, places, followed, following.along),
        data=text if shown else None,
    )


def _of_lines(inputs: Inputs, following: Following) -> Inputs:
    """How the file of lines is understood."""
    own = replace(inputs, condition=following.along_where, crs_of_others=True)
    return replace(own, inputs=(), rasters=(), layer=None, bands=None)


def _step(layers: Sequence[Layer], lines: LinesToFollow, following: Following) -> float:
    """Units of the lines' CRS between samples."""
    if following.step is not None:
        step = in_units_of(following.step, lines.crs)
        if not step > 0:
            raise UsageError(f"--step {following.step}", "a length is needed", "write --step 5m")
        return step
    cells = [
        layer.raster.frame.cell if lines.crs is None else carried_cell(layer.raster.frame, lines.crs)
        for layer in layers
    ]
    return min(min(cell) for cell in cells)


def _values(
    layer: Layer, lines: LinesToFollow, places: Samples, method: str, output: Output
) -> tuple[list[Followed], Fact]:
    raster: Raster = unscaled(layer.raster)
    crs = raster.frame.crs
    x, y = places.x, places.y
    if crs is not None and lines.crs is not None:
        x, y = operation(lines.crs, crs)(x, y)
    name = method if method != "auto" else "nearest" if codes_in(layer.raster) else "bilinear"
    values, known = values_at(
        raster, np.asarray(x), np.asarray(y), parse_method(name), over=over_places(raster, output)
    )
    stem, several = layer.path.stem, len(raster.bands) > 1
    made = [
        Followed(f"{stem}:{band.name}" if several else stem, np.where(ok, held, np.nan), band.unit, band.name)
        for band, held, ok in zip(raster.bands, values, known, strict=True)
    ]
    return made, fact("sampled", layer=stem, way=name, reach=None)


def _rename(followed: list[Followed]) -> None:
    """Layers of one name get numbers."""
    for number, one in enumerate(followed):
        again = sum(other.name == one.name for other in followed[:number])
        if again:
            followed[number] = one._replace(name=f"{one.name}_{again + 1}")


def _table(places: Samples, followed: Sequence[Followed], lines: int) -> tuple[list[str], list[list[Any]]]:
    """Names and rows of the table: differences are each layer less the first."""
    header = [*(["line"] if lines > 1 else []), "distance", "x", "y", *(one.name for one in followed)]
    header += [f"{one.name} less {followed[0].name}" for one in followed[1:]]
    columns: list[Any] = [(places.line + 1).tolist()] if lines > 1 else []
    columns += [places.along.tolist(), places.x.tolist(), places.y.tolist()]
    columns += [_told(one.values) for one in followed]
    columns += [_told(one.values - followed[0].values) for one in followed[1:]]
    return header, [list(row) for row in zip(*columns, strict=True)]


def _told(values: Array) -> list[float | None]:
    return [value if value == value else None for value in values.tolist()]


def _write(
    following: Following,
    output: Output,
    lines: LinesToFollow,
    places: Samples,
    followed: Sequence[Followed],
    text: str,
) -> None:
    with Staging(output.replace) as staging:
        if following.table:
            staging.write_text(Path(following.table), text)
        if following.figure:
            out = Path(following.figure)
            staged = staging.path_for(out)
            with resource_errors(out):
                _draw(following, lines, places, followed, staged)
        staging.publish()


def _draw(
    following: Following, lines: LinesToFollow, places: Samples, followed: Sequence[Followed], path: Path
) -> None:
    starts, along, done = [], places.along.copy(), 0.0
    for number in range(len(lines.parts)):
        here = places.line == number
        starts.append(done)
        along[here] += done
        done += float(places.along[here][-1])
    units = {one.unit for one in followed}
    unit = units.pop() if len(units) == 1 else ""
    names = {one.band for one in followed}
    name = "value" if len(names) > 1 else names.pop()
    first, last = ((places.x[at], places.y[at]) for at in (0, -1))
    heading = f"from {first[0]:,.10g}, {first[1]:,.10g} to {last[0]:,.10g}, {last[1]:,.10g}"
    heading += f"   {len(along):,} samples" if len(lines.parts) == 1 else f"   {len(lines.parts):,} lines"
    look = Look(title=following.title or "Profile of " + ", ".join(one.name for one in followed))
    draw_profile(
        Ground(along, starts, "m" if on_earth(lines.crs) else ""),
        [Trace(one.name, one.values) for one in followed],
        (name, unit), heading, path, look,
    )  # fmt: skip


def _facts(lines: LinesToFollow, places: Samples, followed: Sequence[Followed], along: str) -> dict[str, Any]:
    length = sum(float(places.along[places.line == number][-1]) for number in range(len(lines.parts)))
    layers = []
    for one in followed:
        held = one.values[np.isfinite(one.values)]
        ends = (
            {"low": float(held.min()), "high": float(held.max())}
            if held.size
            else {"low": None, "high": None}
        )
        layers.append(
            {"name": one.name, "unit": one.unit, **ends, "missing": int(one.values.size - held.size)}
        )
    return {
        "along": along, "lines": len(lines.parts), "length": length, "metres": on_earth(lines.crs),
        "samples": len(places.along), "layers": layers,
        "differences": [_apart(one, followed[0], places) for one in followed[1:]],
    }  # fmt: skip


def _apart(one: Followed, first: Followed, places: Samples) -> dict[str, Any]:
    """How far a layer differs from the first: bias, rms, what half of the samples stay within, the worst."""
    apart = one.values - first.values
    both = np.flatnonzero(np.isfinite(apart))
    if not both.size:
        return {"name": one.name, "less": first.name, "samples": 0}
    held = apart[both]
    worst = int(both[np.abs(held).argmax()])
    return {
        "name": one.name, "less": first.name, "samples": int(both.size), "unit": first.unit,
        "bias": float(held.mean()), "rms": float(np.sqrt((held * held).mean())),
        "typical": float(np.median(np.abs(held))), "worst": float(apart[worst]),
        "distance": float(places.along[worst]), "x": float(places.x[worst]), "y": float(places.y[worst]),
    }  # fmt: skip
