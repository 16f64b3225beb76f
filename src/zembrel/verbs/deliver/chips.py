"""deliver chips: squares of an image with labels, for training."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy.typing as npt

from zembrel.deliver.chips.about import ChipTotals, index_row
from zembrel.deliver.chips.cutting import LabelledImage, chips_of, shares_of
from zembrel.deliver.chips.layout import TRAIN, VALIDATION, ChipGrid, ChipPlace, balanced
from zembrel.deliver.chips.split import split_by_ground
from zembrel.deliver.chips.stores import Chip, ChipStore, FolderChips, RecordChips, TarChips, ZarrChips
from zembrel.deliver.devices.rules import PackTraits
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.plan import check_room, free_at
from zembrel.errors import EmptyResultError, InputError, RefusedError, ResourceError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.features.files import holds_features
from zembrel.features.files.named import named_layer, split_layer
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import label
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import take
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import open_layer, open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.tables import open_table
from zembrel.inputs.target import Target, decide, masked
from zembrel.optiontext import OptionText
from zembrel.raster.model import Raster, shared_type
from zembrel.results.receipt import Receipt, Result
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbs.rasterize import Scanning, scanned_view
from zembrel.verbtable.record import RASTERS

Array = npt.NDArray[Any]
SAMPLINGS, FORMS = ("grid", "balanced"), ("tif", "npz")
_BLOCKS = 4  # chips along a block of the split, if it is not said
_COUNTED = 1_000_000  # chips of which classes are counted


@dataclass(frozen=True)
class Chipping:
    """Which chips are made: cells a side, cells that neighbours share, and labels of a raster or features.

    field: of features, whose value is the label; count: chips at most; validation: a share of all; block:
    cells along a side of what is for training or validation as a whole; form: of files in a folder.
    """

    cells: Annotated[int, OptionText("Cells along a side of a chip.", "N")] = 256
    overlap: Annotated[int, OptionText("Cells that neighbouring chips share.", "N")] = 0
    labels: Annotated[str | None, OptionText("Labels: a raster of classes, or features.", "FILE")] = None
    field: Annotated[str | None, OptionText("Field of the features that holds the label.", "NAME")] = None
    sampling: Annotated[
        str, OptionText("grid takes all chips; balanced draws classes about equally often.", "WAY")
    ] = "grid"
    count: Annotated[int | None, OptionText("Largest number of chips.", "N")] = None
    seed: Annotated[int, OptionText("Seed for random choices.", "N")] = 1
    validation: Annotated[
        float, OptionText("Share of chips for validation, split by blocks of ground.", "SHARE")
    ] = 0.0
    block: Annotated[
        int | None, OptionText("Cells along a block for --validation. Default: 4 chips.", "N")
    ] = None
    form: Annotated[str, OptionText("Format of the files in a folder: tif, placed or npz.", "FORM")] = "tif"


def chips(
    inputs: Inputs, where: Where, output: Output, chipping: Chipping, carry: Carry = NOWHERE
) -> Receipt:
    """Rasters, seen as one, as chips in a folder, a .zarr, tars or records, with index and statistics.

    Raises UsageError for words that mean nothing, RefusedError where no chip holds anything.
    """
    _check(output, chipping)

    def make() -> DeliveredPack:
        return DeliveredPack(_packed(inputs, where, output, chipping), PackTraits("chips"))

    return carried(carry, output, "chips", make)


def _check(output: Output, chipping: Chipping) -> None:
    if not 8 <= chipping.cells <= 4096:
        raise UsageError(f"--cells {chipping.cells}", "a chip has 8 to 4096 a side", "write --cells 256")
    if not 0 <= chipping.overlap < chipping.cells:
        why = "neighbours share less than all of their cells"
        raise UsageError(f"--overlap {chipping.overlap}", why, f"write --overlap {chipping.cells // 8}")
    for option, value, known in (
        ("--sampling", chipping.sampling, SAMPLINGS),
        ("--form", chipping.form, FORMS),
    ):
        if value not in known:
            raise UsageError(f"{option} {value}", f"known are {', '.join(known)}", nearest_name(value, known))
    if not 0 <= chipping.validation < 1:
        what = f"--validation {chipping.validation:g}"
        raise UsageError(what, "it is a share of all chips", "write --validation 0.2")
    if chipping.labels is None and (chipping.field or chipping.sampling == "balanced"):
        raise UsageError(
            "there are no labels", "--field and --sampling balanced are of these", "add --labels"
        )
    if chipping.count is not None and chipping.count < 1:
        raise UsageError(f"--count {chipping.count}", "at least one chip is made", "leave it out for all")
    if chipping.seed < 0:
        raise UsageError(f"--seed {chipping.seed}", "it is a whole number from 0", "write --seed 1")
    if chipping.block is not None and chipping.block < chipping.cells:
        what = f"--block {chipping.block}"
        raise UsageError(what, "a block holds a chip at least", f"write --block {4 * chipping.cells}")
    kind = _kind(output)
    if kind == "folder" and output.path.is_dir() and any(output.path.iterdir()):
        what = f"{output.path} is not empty"
        raise RefusedError(what, "a set of chips has a folder for itself", "choose another --out")
    if not output.dry_run:
        for path in (_beside(output, "index.parquet"), _beside(output, "statistics.json")):
            check_free(path, output.replace)


def _kind(output: Output) -> str:
    """folder, .zarr, .tar or .tfrecord. Raises UsageError."""
    ending = output.path.suffix.lower()
    if ending in (".zarr", ".tar", ".tfrecord"):
        return ending
    if ending and not str(output.out).endswith("/"):
        what = f"{output.path.name} is no name of a set of chips"
        raise UsageError(what, f"its ending is {ending!r}", "end it in /, .zarr, .tar or .tfrecord")
    return "folder"


def _beside(output: Output, name: str) -> Path:
    """Index and statistics: in the folder of chips, or beside a set of another kind."""
    if _kind(output) == "folder":
        return output.path / name
    return output.path.with_name(f"{output.path.name}.{name}")


def _packed(inputs: Inputs, where: Where, output: Output, chipping: Chipping) -> Receipt:
    layers = open_layers(take(inputs, output, (RASTERS,)))
    target = decide(layers, where)
    view, said = joined(layers, target, "auto")
    view = masked(view, target.cover() if where.mask else None)
    frame = target.frame
    if min(frame.pane.shape) < chipping.cells:
        what = f"the image has {frame.columns:,} x {frame.rows:,} cells"
        raise UsageError(what, f"no chip of {chipping.cells} fits", "choose a smaller --cells")
    views = LabelledImage(view, _labels(target, output, chipping))
    grid = ChipGrid(frame.pane.shape, chipping.cells, chipping.overlap)
    each_size = chipping.cells**2 * (sum(b.dtype.itemsize for b in view.bands) + 9)
    _check_count(grid, each_size, output, chipping)
    places, between = _chosen(grid, views.labels, output, chipping)
    size = each_size * len(places)
    paths = (*(layer.path for layer in layers), *([Path(chipping.labels)] if chipping.labels else []))
    shape = fact("chips_of", cells=chipping.cells, overlap=chipping.overlap, sampling=chipping.sampling)
    receipt = Receipt(
        "deliver chips", paths, output.out, planned=output.dry_run, touched=paths, frame=frame,
        chose=distinct((shape, *said, *between)),
    )  # fmt: skip
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=len(places), what="chips", free=room)
        return replace(receipt, results=(planned,))
    made, checks = _written(views, places, output, chipping)
    products = {
        name.partition(".")[0]: _beside(output, name) for name in ("index.parquet", "statistics.json")
    }
    return replace(receipt, checks=checks, results=(made,), products=products, seconds=output.seconds)


def _labels(target: Target, output: Output, chipping: Chipping) -> Raster | None:
    """Labels on the cells of the image: codes of a raster, or of features and 0 where there are none."""
    if chipping.labels is None:
        return None
    path, named = split_layer(chipping.labels)
    if not holds_features(path):
        layer = open_layer(Origin.of(path), Inputs((chipping.labels,)))
        view, _ = joined([layer], replace(target, area=None), "auto")
        if len(view.bands) != 1 or view.bands[0].dtype.kind not in "iu":
            raise InputError(
                f"{path} holds no labels", "these are one band of whole numbers", "classify it first"
            )
        return view
    path, named = named_layer(chipping.labels)
    table = open_table(Origin.of(path), Inputs((chipping.labels,), layer=named))
    assert target.frame.crs is not None
    scanning = Scanning(None if chipping.field else 1.0, chipping.field, fill=0.0)
    return scanned_view(path, table.to(target.frame.crs), target.frame, replace(output, type=None), scanning)


def _check_count(grid: ChipGrid, each_size: int, output: Output, chipping: Chipping) -> None:
    """Raise RefusedError past the ceiling, or where classes of very many chips would be counted."""
    count = min(grid.count, chipping.count or grid.count)
    fitting = output.ceiling_bytes // each_size
    fits = f"--count {fitting}" if fitting else ""
    check_room(output.path, each_size * count, output.ceiling_bytes, output.command, f"{count:,} chips", fits)
    if chipping.sampling == "balanced" and grid.count > _COUNTED:
        why = f"classes of {_COUNTED:,} are counted at most"
        raise RefusedError(
            f"there are {grid.count:,} chips", why, "choose a larger --cells, or --within AREA"
        )


def _chosen(
    grid: ChipGrid, labels: Raster | None, output: Output, chipping: Chipping
) -> tuple[list[ChipPlace], list[Fact]]:
    """The places of chips, those of the sampling, each in its part of the set, and what was left out."""
    if chipping.sampling == "balanced" and not output.dry_run:
        assert labels is not None
        panes = grid.drawn(None, chipping.seed)
        shares = shares_of(labels, panes, output.limits)
        panes = [panes[n] for n in balanced(shares, chipping.count, chipping.seed)]
    else:
        panes = grid.drawn(chipping.count, chipping.seed)
    block = chipping.block or _BLOCKS * chipping.cells
    places = split_by_ground(panes, chipping.validation, block, chipping.seed)
    between = len(panes) - len(places)
    said = [fact("chips_between", chips=between)] if between else []
    if chipping.validation:
        part = sum(place.split == VALIDATION for place in places) / max(len(places), 1)
        said.append(fact("validation_share", share=part, asked=chipping.validation, block=block))
    return places, said


def _written(
    views: LabelledImage, places: Sequence[ChipPlace], output: Output, chipping: Chipping
) -> tuple[Result, tuple[Fact, ...]]:
    """All chips in their places, with index and statistics."""
    totals, rows = ChipTotals(len(views.image.bands)), list[dict[str, Any]]()
    with Staging(output.replace) as staging:
        with resource_errors(output.path):
            store: ChipStore | None = None
            for chip in chips_of(views, places, output.limits):
                store = store or _store(staging, views, chip, len(places), output, chipping)
                rows.append(index_row(chip, store.put(chip)))
                if chip.split == TRAIN:
                    totals.add(chip)
            if store is None:
                raise EmptyResultError("no chip holds anything", "all of the image is void", "check --within")
            store.finish()
            if store.count() != len(rows):
                raise ResourceError(
                    f"{output.path} does not hold what was made", "chips are missing", "try again"
                )
            _write_beside(staging, views, totals, rows, output)
        size = sum(size_on_disk(place) for place in staging.places)
        staging.publish()
    count = {split: sum(row["split"] == split for row in rows) for split in (TRAIN, VALIDATION)}
    said = [fact("chips_read_back", chips=len(rows), train=count[TRAIN], validation=count[VALIDATION])]
    said += [fact("chips_empty", chips=len(places) - len(rows))] if len(places) > len(rows) else []
    return Result(output.path, size, count=len(rows), what="chips", seconds=output.seconds), tuple(said)


def _store(
    staging: Staging, views: LabelledImage, first: Chip, most: int, output: Output, chipping: Chipping
) -> ChipStore:
    labels = views.labels.bands[0] if views.labels else None
    stores: Mapping[str, Callable[[Path], ChipStore]] = {
        ".tar": lambda path: TarChips(staging, path),
        ".tfrecord": lambda path: RecordChips(staging, path),
        ".zarr": lambda path: ZarrChips(staging.path_for(path), most, first.image, first.label),
        "folder": lambda path: FolderChips(staging.path_for(path), chipping.form, views.image.bands, labels),
    }
    return stores[_kind(output)](output.path)


def _write_beside(
    staging: Staging, views: LabelledImage, totals: ChipTotals, rows: Sequence[dict[str, Any]], output: Output
) -> None:
    import pyarrow
    from pyarrow import parquet

    about = totals.facts([band.name for band in views.image.bands])
    about |= {"crs": label(views.image.frame.crs), "type": shared_type(views.image.bands).name}
    table = pyarrow.Table.from_pylist(list(rows))
    table = table.replace_schema_metadata({"crs": label(views.image.frame.crs)})
    index, numbers = _beside(output, "index.parquet"), _beside(output, "statistics.json")
    if _kind(output) == "folder":
        folder = staging.place_of(output.path)
        parquet.write_table(table, folder / index.name)
        (folder / numbers.name).write_text(json.dumps(about, indent=1) + "\n", "utf-8")
        return
    parquet.write_table(table, staging.path_for(index))
    staging.write_text(numbers, json.dumps(about, indent=1) + "\n")
