"""From a view to a file: format rules, plan, engine, commit, and the lines of the receipt about it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.plan import Plan
from zembrel.engine.run import Observer, run
from zembrel.errors import RefusedError, UsageError, nearest_name
from zembrel.formats import Format, check_settings, choose_format, format_named, header_beside, load
from zembrel.formats.handles import size_on_disk
from zembrel.formats.worldfile import world_file_name, write_world_file
from zembrel.geodesy.text import in_wkt1, write_crs
from zembrel.measure import show_bytes, show_number
from zembrel.raster.model import ALPHA, TYPES, Raster, has_alpha, shared_type
from zembrel.raster.survey import Coverage
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.cast import cast, fitting_nodata
from zembrel.raster.views.outline import Cover
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.unscaled import unscaled
from zembrel.verbs.opacity import settled
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import frame_facts, show_cell


@dataclass(frozen=True)
class Written:
    """What became of a view: lines and facts for the receipt."""

    view: Raster
    chose: tuple[str, ...]
    checks: tuple[str, ...]
    wrote: tuple[str, ...]
    facts: dict[str, Any]


def write(
    view: Raster, out: Path, output: Output, *, cover: Cover | None = None, observers: Sequence[Observer] = ()
) -> Written:
    """Write `view` to `out`, or only plan it when `output.dry_run`.

    cover: cells that are meant to be valid, for the check. Raises RefusedError, UsageError and
    ResourceError; then nothing is left behind.
    """
    name = choose_format(out, output.format)
    if output.into is not None:
        raise UsageError(
            f"--into {output.into}", f"{out.name} holds cells, not layers of features", "leave it out"
        )
    settings = output.format_settings
    check_settings(name, settings)
    view, chose = prepared(view, format_named(name), output)
    if output.receiver is not None:
        output.receiver(view)
        return Written(view, (*chose,), (), ("kept",), {"frame": frame_facts(view.frame), "bytes_at_most": 0})
    plan = Plan(view.frame, view.bands, out)
    if not output.dry_run:
        check_free(out, output.replace)
    plan.check(output.ceiling_bytes, output.command)
    facts: dict[str, Any] = {"out": str(out), "format": name, "frame": frame_facts(view.frame)}
    facts["bytes_at_most"] = plan.bytes_at_most
    if output.dry_run:
        return _planned(view, chose, plan, output, facts)
    coverage = Coverage(cover)
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            sink = load(name).make_sink(staged, view.frame, view.bands, settings)
            run(view, sink, output.limits, [coverage, *observers])
        if not coverage.valid and not output.keep_empty:
            raise _empty(out, view)
        beside = header_beside(name, out, view, settings) | _beside(view, out, format_named(name), output)
        for path, text in beside.items():
            if not _stands_already(path, text):
                staging.write_text(path, text)
        size = size_on_disk(staged)
        staging.publish()
    seconds = output.seconds
    extra = tuple(f"beside it {path.name}" for path in beside)
    wrote = (str(out), show_bytes(size), _bands(view), *sink.how, *extra, f"in {seconds:.1f} s")
    facts |= {"bytes": size, "seconds": round(seconds, 3)}
    facts |= {"valid": coverage.valid, "missing": coverage.missing}
    return Written(view, chose, _checks(coverage, view, cover), wrote, facts)


def _empty(out: Path, view: Raster) -> RefusedError:
    return RefusedError(
        f"no cell of {out} would be valid",
        f"it has {view.frame.columns:,} x {view.frame.rows:,} cells of {show_cell(view.frame)}, "
        "and none gets half of its value from valid cells",
        "check the area, the cell size and --onto, or add --keep-empty",
    )


def _planned(
    view: Raster, chose: tuple[str, ...], plan: Plan, output: Output, facts: dict[str, Any]
) -> Written:
    """What would be written, and what that would take."""
    memory = output.limits.expected
    items = (f"{plan.out} (not written: dry run)", f"at most {show_bytes(plan.bytes_at_most)}", _bands(view))
    room = (f"{show_bytes(plan.free)} free", f"memory about {show_bytes(memory)}")
    return Written(view, chose, (), (*items, *room), facts | {"free": plan.free, "memory": memory})


def prepared(view: Raster, form: Format, output: Output) -> tuple[Raster, tuple[str, ...]]:
    """`view` as the format can hold it, and what was chosen for that. Raises RefusedError, UsageError."""
    view, chose = _valued(view, form, output)
    if output.type:
        if output.type not in TYPES:
            raise UsageError(
                f"there is no cell type {output.type!r}",
                "cells have one of a few types",
                nearest_name(output.type, TYPES),
            )
        view = cast(view, output.type)
    view, said = settled(view, form.title, output, holds=_holds_opacity(form, view, output))
    chose += said
    held = shared_type(view.bands).name
    if form.framed and held not in form.types and np.dtype(held).kind == "f":
        chose.append(f"heights rounded to whole numbers (the format holds {form.types[0]})")
        view = cast(view, form.types[0])
        held = form.types[0]
    wider = next((kind for kind in form.types if np.can_cast(held, kind)), None)
    if held not in form.types and wider is not None:
        view = cast(view, wider)
        chose.append(f"type {held} to {wider} (the format holds no {held})")
    if view.bands[0].legend is not None and not form.holds_legend:
        if form.most_bands > 1:  # a picture
            view = expand_palette(view)
            chose.append(f"palette to colour bands ({form.title} holds no palette)")
        else:
            chose.append("codes without their legend (the format holds none)")
    compress = output.format_settings.get("compress", "").lower()
    if form.inexact and compress.startswith(form.inexact):  # no value can stand for invalid cells
        chose.append("nodata mask (the compression changes values)")
        view = Relabelled(view, tuple(replace(band, nodata=None) for band in view.bands))
    else:
        view = _with_nodata(view, output, form, chose)
    _check_fit(view, form)
    return view, (*chose, *_notes(view, form))


def _notes(view: Raster, form: Format) -> list[str]:
    """What the format cannot tell of `view`, or tells in another way."""
    chose: list[str] = []
    nodata = view.bands[0].nodata
    if nodata is not None and not form.holds_nodata:
        chose.append(f"the format does not tell nodata: read it with --from-nodata {_told(nodata)}")
    if view.frame.registration == "node" and not form.holds_nodes:
        chose.append("nodes become the middles of cells (the format knows no nodes)")
    if form.whitens:
        chose.append(f"invalid cells white (a {form.title} holds no mask)")
    if form.title.startswith("WebP") and len(view.bands) == 1:
        chose.append("grey as red, green and blue (WebP holds no grey)")
    legend = view.bands[0].legend
    if legend is not None and legend.named and not form.holds_names:
        chose.append("classes lose their names (the format holds colours alone)")
    return chose


def _valued(view: Raster, form: Format, output: Output) -> tuple[Raster, list[str]]:
    """`view` with what its scales and offsets make of stored numbers, where the format cannot tell them."""
    scales = dict.fromkeys((band.scale, band.offset) for band in view.bands)
    if list(scales) == [(1.0, 0.0)] or (form.holds_scale and not output.stored):
        return view, []
    told = ", ".join(f"scale {show_number(scale)} and offset {show_number(lift)}" for scale, lift in scales)
    if output.stored:
        plain = tuple(replace(band, scale=1.0, offset=0.0) for band in view.bands)
        return Relabelled(view, plain), [f"stored numbers, without {told}"]
    return unscaled(view), [f"values of {told} (the format keeps none; --stored writes the numbers)"]


def _holds_opacity(form: Format, view: Raster, output: Output) -> bool:
    """Whether the format holds opacity as such, or any number of bands and this as one of them."""
    compress = output.format_settings.get("compress", "").lower()
    if form.inexact and compress.startswith(form.inexact):
        return False
    return not form.most_bands or (form.holds_mask and form.most_bands >= len(view.bands) - 1)


def _with_nodata(view: Raster, output: Output, form: Format, chose: list[str]) -> Raster:
    dtype = shared_type(view.bands).name
    if form.nodata is not None:
        kept: float | int | None = form.nodata
        if output.nodata not in (None, f"{kept:g}"):
            raise UsageError(
                f"--nodata {output.nodata}", f"a {form.title} has {kept:g} and no other", "leave --nodata out"
            )
        chose.append(f"nodata {kept:g} (of the format)")
    elif output.nodata is None:
        declared = {band.nodata for band in view.bands}
        value = declared.pop() if len(declared) == 1 else None
        kept = fitting_nodata(value, dtype)
        if kept is None and form.usual_nodata is not None:
            chose.append(f"nodata {form.usual_nodata} where nothing is (usual in the format)")
        elif has_alpha(view.bands):
            kept = None  # opacity 0 says it
        elif kept is not None or form.holds_mask or dtype.startswith("float"):
            chose.append(f"nodata {_told(kept)}" if kept is not None else _default_nodata(dtype))
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
        chose.append(f"nodata {_told(kept)} as asked")
    return Relabelled(
        view,
        tuple(band if band.colour == ALPHA else replace(band, nodata=kept) for band in view.bands),
    )


def _told(value: float) -> str:
    """A nodata value as it is typed."""
    return f"{int(value)}" if float(value).is_integer() else f"{value!r}"


def _default_nodata(dtype: str) -> str:
    return "nodata NaN" if dtype.startswith("float") else "nodata mask (none declared)"


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


def _beside(view: Raster, out: Path, form: Format, output: Output) -> dict[Path, str]:
    crs = view.frame.crs
    known = in_wkt1(crs)
    if form.holds_place and not form.holds_crs and output.world_file is None:
        return {out.with_suffix(".prj"): write_crs(crs, "prj") + "\n"} if known and crs is not None else {}
    wanted = output.world_file if output.world_file is not None else not form.holds_place
    if not wanted or (crs is None and view.frame.affine.x0 == 0 == view.frame.affine.y0):
        return {}
    beside = {world_file_name(out): write_world_file(view.frame)}
    if known and crs is not None:
        beside[out.with_suffix(".prj")] = write_crs(crs, "prj") + "\n"
    return beside


def _stands_already(path: Path, text: str) -> bool:
    """Whether another result of the same place has left just this file."""
    try:
        return path.read_text("utf-8") == text
    except (OSError, UnicodeDecodeError):
        return False


def _bands(view: Raster) -> str:
    count = len(view.bands)
    return f"{count} band{'s' if count > 1 else ''} {shared_type(view.bands).name}"


def _checks(coverage: Coverage, view: Raster, cover: Cover | None) -> tuple[str, ...]:
    cells = view.frame.size
    if cover is not None:
        if not coverage.missing:
            return ("no gap inside the area",)
        row, column = coverage.first or (0, 0)
        x, y = view.frame.corners.at(column + 0.5, row + 0.5)
        return (f"{coverage.missing:,} cells without data inside the area, first at {x:.10g},{y:.10g}",)
    if coverage.valid == cells:
        return ("all cells valid",)
    return (f"{100 * coverage.valid / cells:.1f} % of cells valid",)
