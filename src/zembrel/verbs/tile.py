"""tile: cut into sheets."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zembrel.engine.commit import check_free
from zembrel.engine.plan import Plan
from zembrel.engine.run import observe
from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.formats import choose_format, format_named, open_raster
from zembrel.grid.cutting import Cut, by_cells, by_size, split
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.measure import show_bytes
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.survey import Coverage
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.raster.views.place import crop
from zembrel.reading import readings
from zembrel.verbs.cutting import Cutting, pair_of
from zembrel.verbs.intake import Given
from zembrel.verbs.joined import joined
from zembrel.verbs.kinds import by_kind
from zembrel.verbs.layers import Layer, open_layers
from zembrel.verbs.lengths import cell_in_units_of, in_cells
from zembrel.verbs.naming import check_template, sheet_name
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Lines, Receipt, frame_items, named, reads
from zembrel.verbs.survey import blocks_of
from zembrel.verbs.target import Target, decide
from zembrel.verbs.write import write

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable


@dataclass(frozen=True)
class Sheet:
    """A sheet to be made: its cells of the whole with their margin, its facts, its outline, its file."""

    pane: Pane
    facts: Mapping[str, Any]
    cover: Cover | None = None
    path: Path = field(default_factory=Path)


Done = tuple[Sheet, dict[str, Any]]


def tile(inputs: Inputs, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Cut the inputs, seen as one, into sheets in the folder `output.out`.

    Raises UsageError unless one way to cut is given, InputError if nothing is to be cut.
    """
    from zembrel.features.files import check_name

    ways = [way for way in (cutting.split, cutting.size, cutting.cells, cutting.by) if way]
    if len(ways) != 1:
        raise UsageError(
            f"{len(ways)} ways to cut", "sheets are cut in one", "give --split 4x3, --size, --cells or --by"
        )
    if cutting.index:
        check_name(Path(cutting.index))
    return by_kind("tile", inputs, where, output, cutting)


def of_rasters(given: Given, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Rasters, seen as one, cut into sheets."""
    layers = open_layers(given)
    target = decide(layers, where)
    sheets = _named(_sheets(target.frame, cutting), layers, output, cutting)
    _check_places([sheet.path for sheet in sheets], cutting, output)
    view, chose = joined(layers, target, cutting.method)
    total = sum(sheet.pane.size for sheet in sheets)
    big = Frame(view.frame.crs, view.frame.affine, total, 1)
    Plan(big, view.bands, output.path).check(output.ceiling_bytes, output.command)
    kept = {sheet.path for sheet in sheets if cutting.resume and _stands(sheet, view, layers)}
    done = _made(view, sheets, kept, output, cutting)
    if cutting.index and not output.dry_run:
        _write_index(Path(cutting.index), view.frame, done, output)
    facts = {
        "inputs": [str(layer.path) for layer in layers],
        "sheets": [{**sheet.facts, "path": str(sheet.path)} for sheet, _ in done],
        "empty": len(sheets) - len(done),
        "kept": len(kept),
        "bytes": sum(int(str(made.get("bytes", made.get("bytes_at_most")))) for _, made in done),
    }
    largest = max(sheets, key=lambda sheet: sheet.pane.size).pane
    cut = f"{len(sheets):,} sheets of up to {largest.columns:,} x {largest.rows:,} cells"
    margins = (f"margin {cutting.margin}",) if cutting.margin else ()
    return _receipt(facts, target, (cut, *margins, *chose), output, cutting)


def _check_places(paths: Sequence[Path], cutting: Cutting, output: Output) -> None:
    """Raise RefusedError if a sheet, or the index, may not be put where it is to be."""
    from zembrel.verbs.features.writing import check_target

    if output.dry_run:
        return
    for path in paths:
        check_free(path, output.replace or cutting.resume)
    if cutting.index:
        check_target(Path(cutting.index), output)


def _sheets(frame: Frame, cutting: Cutting) -> list[Sheet]:
    """The sheets without names yet."""
    if cutting.by:
        return _by_polygons(frame, cutting)
    cuts = _cuts(frame, cutting)
    margin = _margin(frame, cutting.margin)
    return [Sheet(_widened(cut.pane, margin, frame), _facts(cut, frame)) for cut in cuts]


def _cuts(frame: Frame, cutting: Cutting) -> list[Cut]:
    if cutting.split:
        across, down = pair_of(cutting.split, "--split", "4x3")
        if across > frame.columns or down > frame.rows:
            raise UsageError(
                f"--split {cutting.split}",
                f"there are only {frame.columns:,} x {frame.rows:,} cells",
                "take fewer sheets",
            )
        return split(frame, across, down)
    if cutting.cells:
        return by_cells(frame, *pair_of(cutting.cells, "--cells", "512 or 512x256"))
    if not frame.north_up:
        raise UsageError("--size needs a frame that is north up", "this one is turned", "use --cells")
    size = cell_in_units_of(str(cutting.size), frame.crs)
    if min(size[0] / frame.cell[0], size[1] / frame.cell[1]) < 1:
        raise UsageError(
            f"--size {cutting.size}", "a sheet would be smaller than a cell", "take a larger one"
        )
    return by_size(frame, *size)


def _margin(frame: Frame, text: str | None) -> tuple[int, int]:
    """Cells to add on each side, along x and y."""
    if not text:
        return 0, 0
    across, down = in_cells(text, frame)
    if min(across, down) < 0:
        raise UsageError(f"--margin {text}", "sheets would not meet", "give 0 or more")
    return math.ceil(across - 1e-9), math.ceil(down - 1e-9)


def _widened(pane: Pane, margin: tuple[int, int], frame: Frame) -> Pane:
    across, down = margin
    wide = Pane(pane.top - down, pane.left - across, pane.bottom + down, pane.right + across)
    part = wide.meet(frame.pane)
    assert part is not None
    return part


def _facts(cut: Cut, frame: Frame) -> dict[str, Any]:
    """What a name may be made of; bounds are those without margin."""
    west, south, east, north = frame.bounds_of(cut.pane)
    return {
        "number": cut.number, "row": cut.row, "col": cut.column,
        "west": west, "south": south, "east": east, "north": north,
    }  # fmt: skip


def _by_polygons(frame: Frame, cutting: Cutting) -> list[Sheet]:
    """A sheet for each feature that meets the frame, blank outside its outline."""
    from zembrel.features.cover import PolygonCover
    from zembrel.features.files import read_features

    table = read_features(Path(str(cutting.by)))
    if frame.crs is not None:
        table = table.to(frame.crs)
    margin, sheets = _margin(frame, cutting.margin), []
    for number, row in enumerate(table.rows(), 1):
        outline = table.take([number - 1]).polygon(number)
        if margin != (0, 0):
            outline = outline.buffer(margin[0] * frame.cell[0], join_style="mitre")
        pane = frame.pane_of(*outline.bounds).meet(frame.pane)
        if pane is None:
            continue
        facts = {
            **{str(key): value for key, value in row.items()},
            **_facts(Cut(number, 1, number, pane), frame),
        }
        sheets.append(Sheet(pane, facts, PolygonCover(frame.crop(pane), outline, cutting.touching)))
    if not sheets:
        raise InputError(
            f"no feature of {cutting.by} lies on the inputs",
            "there is nothing to cut",
            "check the CRS of both",
        )
    return sheets


def _named(sheets: list[Sheet], layers: Sequence[Layer], output: Output, cutting: Cutting) -> list[Sheet]:
    """The sheets with their files. Raises UsageError where two would have one name."""
    fields = {"stem": layers[0].path.stem if len(layers) == 1 else "sheet", **sheets[0].facts}
    template = cutting.name or _default_name(sheets, cutting)
    check_template(template, fields)
    asked = output.format.lower() if output.format else None
    ending = format_named(choose_format(Path("x.tif"), asked)).endings[0]
    made: list[Sheet] = []
    seen: dict[str, Any] = {}
    for sheet in sheets:
        name = sheet_name(template, {**fields, **sheet.facts})
        if name.lower() in seen:
            raise UsageError(
                f"sheets {seen[name.lower()]} and {sheet.facts['number']} would both be {name}{ending}",
                "one would be lost",
                "add {number} to --name",
            )
        seen[name.lower()] = sheet.facts["number"]
        made.append(replace(sheet, path=output.path / (name + ending)))
    return made


def _default_name(sheets: Sequence[Sheet], cutting: Cutting) -> str:
    if cutting.by:
        named = {str(sheet.facts.get("name") or "") for sheet in sheets} - {""}
        number = f"{{stem}}_{{number:0{len(str(len(sheets)))}}}"
        return "{stem}_{name}" if len(named) == len(sheets) else number
    rows, columns = (len(str(max(sheet.facts[key] for sheet in sheets))) for key in ("row", "col"))
    return f"{{stem}}_{{row:0{rows}}}_{{col:0{columns}}}"


def _view_of(sheet: Sheet, view: Raster) -> Raster:
    part = crop(view, sheet.pane)
    return part if sheet.cover is None else Blanked(part, sheet.cover)


def _stands(sheet: Sheet, view: Raster, layers: Sequence[Layer]) -> bool:
    """Whether the sheet's file is there: whole, of the same frame and bands, younger than its inputs."""
    if not sheet.path.is_file():
        return False
    made = sheet.path.stat().st_mtime_ns
    if any(layer.path.stat().st_mtime_ns > made for layer in layers):
        return False
    try:
        with readings.aside():
            there = open_raster(sheet.path)
        if there.frame != view.frame.crop(sheet.pane) or len(there.bands) != len(view.bands):
            return False
        if shared_type(there.bands) != shared_type(view.bands):
            return False
        for pane in blocks_of(there):
            there.cells(pane)
    except ZembrelError:
        return False
    return True


def _made(
    view: Raster, sheets: Sequence[Sheet], kept: set[Path], output: Output, cutting: Cutting
) -> list[Done]:
    """Every sheet with what became of it; empty ones are left out."""
    done: list[Done] = []
    quiet = replace(output, replace=output.replace or cutting.resume, format=None)
    for sheet in sheets:
        if sheet.path in kept:
            done.append((sheet, {"bytes": sheet.path.stat().st_size, "kept": True}))
            continue
        part = _view_of(sheet, view)
        if not output.keep_empty and not output.dry_run and _empty(part, output):
            continue
        written = write(part, sheet.path, quiet)
        done.append((sheet, written.facts))
    return done


def _empty(part: Raster, output: Output) -> bool:
    """Whether no cell is valid; looked at block by block, up to the first that is."""
    for pane in blocks_of(part):
        coverage = Coverage()
        observe(part, [pane], [coverage], replace(output, workers=1).limits)
        if coverage.valid:
            return False
    return True


def _write_index(path: Path, frame: Frame, done: Sequence[Done], output: Output) -> None:
    from zembrel.verbs.features.writing import write_layer

    write_layer(path, _index_table(path, frame, done), output)


def _index_table(path: Path, frame: Frame, done: Sequence[Done]) -> FeatureTable:
    """Outlines of the sheets with their margins, and what they are; paths as seen from the index."""
    import shapely

    from zembrel.features.table import FeatureTable
    from zembrel.geodesy.registry import by_code

    shapes = [shapely.box(*frame.bounds_of(sheet.pane)) for sheet, _ in done]
    rows = [
        {"path": os.path.relpath(sheet.path, path.parent), **sheet.facts, "bytes": facts.get("bytes")}
        for sheet, facts in done
    ]
    return FeatureTable.of(shapes, rows, frame.crs or by_code(4326))


def _receipt(
    facts: Mapping[str, Any], target: Target, chose: Sequence[str], output: Output, cutting: Cutting
) -> Receipt:
    empty, kept = facts["empty"], facts["kept"]
    checks = [f"{empty:,} empty sheets left out"] if empty else ["no empty sheet"]
    checks += [f"{kept:,} sheets stood already and were verified"] if kept else []
    wrote = [f"{len(facts['sheets']) - kept:,} files in {output.path}", show_bytes(facts["bytes"])]
    wrote += [f"index {cutting.index}"] if cutting.index and not output.dry_run else []
    lines: Lines = (
        ("frame", frame_items(target.frame)),
        ("chose", tuple(chose)),
        ("checks", () if output.dry_run else tuple(checks)),
        ("plan" if output.dry_run else "wrote", tuple(wrote)),
    )
    if output.dry_run:
        lines = (reads([Path(path) for path in facts["inputs"]]), *lines)
    title = f"{named([Path(path) for path in facts['inputs']])} -> {output.out}"
    return Receipt("tile", title, lines, dict(facts))
