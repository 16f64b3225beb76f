"""A raster as a format can hold it, and what is lost by that."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from zembrel.errors import RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.formats import Format
from zembrel.inputs.options import Output
from zembrel.measure import show_number
from zembrel.raster.model import ALPHA, Raster, has_alpha, shared_type
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.cast import cast, fitting_nodata
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.opacity import settled
from zembrel.results.retyped import retyped


def prepared(view: Raster, form: Format, output: Output) -> tuple[Raster, tuple[Fact, ...]]:
    """`view` as the format can hold it, and what was chosen for that. Raises RefusedError, UsageError."""
    view, chose = _valued(view, form, output)
    if output.type:
        allowed = replace(output, rounded=output.rounded or form.framed)  # such a format rounds anyway
        view, said = retyped(view, output.type, allowed)
        chose += said
    view, said = settled(view, form.title, output, holds=_holds_opacity(form, view, output))
    chose += said
    held = shared_type(view.bands).name
    if form.framed and held not in form.types and np.dtype(held).kind == "f":
        chose.append(fact("heights_rounded", type=form.types[0]))
        view = cast(view, form.types[0])
        held = form.types[0]
    wider = next((kind for kind in form.types if np.can_cast(held, kind)), None)
    if held not in form.types and wider is not None:
        view = cast(view, wider)
        chose.append(fact("type_not_held", held=held, wider=wider))
    if view.bands[0].legend is not None and not form.holds_legend:
        if form.most_bands > 1:  # a picture
            view = expand_palette(view)
            chose.append(fact("palette_not_held", format=form.title))
        else:
            chose.append(fact("legend_not_held"))
    compress = output.format_settings.get("compress", "").lower()
    if form.inexact and compress.startswith(form.inexact):  # no value can stand for invalid cells
        chose.append(fact("nodata_mask", why="the compression changes values"))
        view = Relabelled(view, tuple(replace(band, nodata=None) for band in view.bands))
    else:
        view = _with_nodata(view, output, form, chose)
    _check_fit(view, form)
    return view, (*chose, *_notes(view, form))


def _notes(view: Raster, form: Format) -> list[Fact]:
    """What the format cannot tell of `view`, or tells in another way."""
    chose: list[Fact] = []
    nodata = view.bands[0].nodata
    if nodata is not None and not form.holds_nodata:
        chose.append(fact("nodata_not_told", nodata=nodata))
    if view.frame.registration == "node" and not form.holds_nodes:
        chose.append(fact("nodes_not_held"))
    if form.whitens:
        chose.append(fact("mask_not_held", format=form.title))
    if form.title.startswith("WebP") and len(view.bands) == 1:
        chose.append(fact("grey_not_held"))
    legend = view.bands[0].legend
    if legend is not None and legend.named and not form.holds_names:
        chose.append(fact("names_not_held"))
    return chose


def _valued(view: Raster, form: Format, output: Output) -> tuple[Raster, list[Fact]]:
    """`view` with what its scales and offsets make of stored numbers, where the format cannot tell them."""
    scales = dict.fromkeys((band.scale, band.offset) for band in view.bands)
    if list(scales) == [(1.0, 0.0)] or (form.holds_scale and not output.stored):
        return view, []
    said = tuple(f"scale {show_number(scale)} and offset {show_number(lift)}" for scale, lift in scales)
    if output.stored:
        plain = tuple(replace(band, scale=1.0, offset=0.0) for band in view.bands)
        return Relabelled(view, plain), [fact("stored_without_scale", scales=said)]
    return unscaled(view), [fact("values_of_scale", scales=said)]


def _holds_opacity(form: Format, view: Raster, output: Output) -> bool:
    """Whether the format holds opacity as such, or any number of bands and this as one of them."""
    compress = output.format_settings.get("compress", "").lower()
    if form.inexact and compress.startswith(form.inexact):
        return False
    return not form.most_bands or (form.holds_mask and form.most_bands >= len(view.bands) - 1)


def _with_nodata(view: Raster, output: Output, form: Format, chose: list[Fact]) -> Raster:
    dtype = shared_type(view.bands).name
    if form.nodata is not None:
        kept: float | int | None = form.nodata
        if output.nodata not in (None, f"{kept:g}"):
            raise UsageError(
                f"--nodata {output.nodata}", f"a {form.title} has {kept:g} and no other", "leave --nodata out"
            )
        chose.append(fact("nodata_of_format", nodata=kept))
    elif output.nodata is None:
        declared = {band.nodata for band in view.bands}
        value = next(iter(declared)) if len(declared) == 1 else None
        kept = fitting_nodata(value, dtype)
        if kept is None and form.usual_nodata is not None:
            chose.append(fact("nodata_usual", nodata=form.usual_nodata))
        elif has_alpha(view.bands):
            kept = None  # opacity 0 says it
        elif kept is not None or form.holds_mask or dtype.startswith("float"):
            chose.append(_nodata_chosen(kept, dtype, declared))
    elif output.nodata.lower() == "none":
        kept = None
    else:
        try:
            wanted = float(output.nodata)
        except ValueError as exc:
            raise UsageError(
                f"--nodata {output.nodata}", "a number or none is needed", "write --nodata -9999"
            ) from exc
        kept = fitting_nodata(wanted, dtype)
        if kept is None:
            raise UsageError(
                f"nodata {_told(wanted)} does not fit {dtype}",
                "cells could not hold it",
                "choose one that fits",
            )
        chose.append(fact("nodata_as_asked", nodata=kept))
    return Relabelled(
        view,
        tuple(band if band.colour == ALPHA else replace(band, nodata=kept) for band in view.bands),
    )


def _told(value: float) -> str:
    """A nodata value as it is typed."""
    return f"{int(value)}" if float(value).is_integer() else repr(value).replace("nan", "NaN")


def _nodata_chosen(kept: float | int | None, dtype: str, declared: set[float | int | None]) -> Fact:
    """The value that stands for invalid cells, or why a mask tells them."""
    if kept is not None or dtype.startswith("float"):
        return fact("nodata", nodata=math.nan if kept is None else kept)
    if declared == {None}:
        return fact("nodata_mask", why="none declared")
    if len(declared) > 1:
        return fact("nodata_mask", why="bands declare different values")
    return fact("nodata_mask", why=f"{_told(float(declared.pop() or 0))} does not fit {dtype}")


def _check_fit(view: Raster, form: Format) -> None:
    dtype = shared_type(view.bands).name
    if dtype not in form.types:
        raise RefusedError(
            f"{form.title} cannot hold {dtype} cells",
            f"it holds {', '.join(form.types)}",
            "add --type int16, or convert with --stretch 2%,98% first"
            if form.types == ("int16",)
            else "use convert --stretch 2%,98% (or --type) first, or write GeoTIFF",
        )
    alpha = form.holds_mask and has_alpha(view.bands)
    if form.most_bands and len(view.bands) - alpha not in (1, form.most_bands):
        raise RefusedError(
            f"{form.title} cannot hold {len(view.bands)} bands",
            "it holds 1" if form.most_bands == 1 else f"it holds 1 or {form.most_bands}",
            "choose with --bands",
        )
    if max(view.frame.columns, view.frame.rows) > form.longest_side:
        raise RefusedError(
            f"{form.title} cannot hold {view.frame.columns:,} x {view.frame.rows:,} cells",
            f"its longest side is {form.longest_side:,}",
            "cut it into sheets, or resample it",
        )
