"""From a view to a file: format rules, plan, engine, commit, and what there is to report about it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.plan import Plan
from zembrel.engine.run import Observer, run
from zembrel.errors import EmptyResultError, UsageError
from zembrel.facts import Fact, fact
from zembrel.formats import Format, check_settings, choose_format, format_named, header_beside, load
from zembrel.formats.worldfile import world_file_name, write_world_file
from zembrel.geodesy.text import in_wkt1, write_crs
from zembrel.handles import size_on_disk
from zembrel.inputs.options import Output
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.survey import Coverage
from zembrel.raster.views.outline import Cover
from zembrel.results.phrases import show_cell
from zembrel.results.prepared import prepared
from zembrel.results.receipt import Result


class NothingValidError(EmptyResultError):
    """No cell of a result would be valid."""


@dataclass(frozen=True)
class Written:
    """What became of a view."""

    view: Raster
    chose: tuple[Fact, ...]
    checks: tuple[Fact, ...]
    result: Result


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
        return Written(view, (*chose,), (), Result(out, frame=view.frame))
    plan = Plan(view.frame, view.bands, out)
    if not output.dry_run:
        check_free(out, output.replace)
    plan.check(output.ceiling_bytes, output.command)
    kind, most = shared_type(view.bands).name, plan.bytes_at_most
    result = Result(out, None, most, format=name, frame=view.frame, bands=len(view.bands), type=kind)
    if output.dry_run:
        room = replace(result, free=plan.free, memory=output.limits.expected)
        return Written(view, (*chose,), (), room)
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
    result = replace(result, bytes=size, how=tuple(sink.how), beside=tuple(beside), seconds=output.seconds)
    result = replace(result, valid=coverage.valid, missing=coverage.missing)
    return Written(view, (*chose,), _checks(coverage, view, cover), result)


def _empty(out: Path, view: Raster) -> NothingValidError:
    return NothingValidError(
        f"no cell of {out} would be valid",
        f"it has {view.frame.columns:,} x {view.frame.rows:,} cells of {show_cell(view.frame)}, "
        "and none gets half of its value from valid cells",
        "check the area, the cell size and --onto, or add --keep-empty",
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


def _checks(coverage: Coverage, view: Raster, cover: Cover | None) -> tuple[Fact, ...]:
    cells = view.frame.size
    if cover is not None:
        if not coverage.missing:
            return (fact("no_gap"),)
        row, column = coverage.first or (0, 0)
        x, y = view.frame.corners.at(column + 0.5, row + 0.5)
        return (fact("cells_missing", cells=coverage.missing, x=x, y=y),)
    if coverage.valid == cells:
        return (fact("all_valid"),)
    return (fact("share_valid", percent=100 * coverage.valid / cells),)
