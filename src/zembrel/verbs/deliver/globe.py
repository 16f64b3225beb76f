"""deliver globe: rasters and features in one KMZ, with levels of detail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated, NamedTuple

import shapely

from zembrel.deliver.devices.rules import PackTraits
from zembrel.deliver.globe import markup
from zembrel.deliver.globe.archive import GlobeArchive, PictureLayer, dot
from zembrel.deliver.globe.globereading import read_globe
from zembrel.deliver.globe.markup import Shown
from zembrel.deliver.globe.tree import PieceTree
from zembrel.deliver.quadtree import TileTask, block_steps, tiles_of
from zembrel.draw.key import ClassKey, RampKey, key_of, key_picture
from zembrel.draw.picture import ShapeLayer
from zembrel.draw.ramps import check_ramp
from zembrel.draw.shapes import coloured
from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.plan import check_room, free_at
from zembrel.errors import EmptyInputError, RefusedError, ResourceError, UsageError
from zembrel.facts import Fact, distinct, fact
from zembrel.features.table import FeatureTable
from zembrel.formats.origin import Origin
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import ground
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import Given, identified
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import Layer, given_layers, open_layer
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.tables import open_table
from zembrel.inputs.target import decide, masked
from zembrel.measure import parse_length
from zembrel.optiontext import OptionText
from zembrel.packing.packcells import PackCells, as_colours
from zembrel.pictures.appearance import Stretch
from zembrel.pictures.brush import NO_BRUSH, Brush
from zembrel.pictures.drawing import shape_look
from zembrel.raster.model import Raster
from zembrel.raster.views.cleared import Cleared
from zembrel.raster.views.palette import expand_palette
from zembrel.results.endings import check_ending
from zembrel.results.opacity import colour_named
from zembrel.results.receipt import Receipt, Result
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbs.draw import layers_with
from zembrel.verbs.features.change import clipped
from zembrel.verbtable.record import FEATURES, RASTERS

ENDINGS = (".kmz",)
_SCREEN = 1280  # pixels of a view's width, for what shall be visible from where
_HEAD = 4_096  # bytes of a piece besides its cells, at most
_DEGREES = 4326


@dataclass(frozen=True)
class GlobeLook:
    """How layers are shown on a globe."""

    each: Annotated[bool, OptionText("Make a layer of each raster instead of merging them.")] = False
    levels: Annotated[int | None, OptionText("Levels of detail. Default: as many as needed.", "N")] = None
    clear: Annotated[str | None, OptionText("Make cells of this colour transparent.", "COLOUR")] = None
    tolerance: Annotated[int, OptionText("Largest difference from the --clear colour, of 255.", "N")] = 0
    opacity: Annotated[float, OptionText("Opacity of images, 0 (transparent) to 1.", "SHARE")] = 1.0
    order: Annotated[int, OptionText("Drawing order; images with a higher number are on top.", "N")] = 0
    visible: Annotated[str | None, OptionText("Views with images: 2km,200km wide.", "NEAR,FAR")] = None
    key: Annotated[bool, OptionText("Show a legend at the edge of the screen.", flag="--key/--no-key")] = True
    quality: Annotated[int, OptionText("Quality of JPEG, 1 to 100.", "N")] = 85
    method: MethodName = "auto"
    brush: Brush = NO_BRUSH
    stretch: Stretch = None
    title: Annotated[str | None, OptionText("Title of the pack.", "TEXT")] = None
    field: Annotated[str | None, OptionText("Colour features by this field.", "NAME")] = None
    classes: Annotated[str, OptionText("Classes of a field: equal:5, natural:5.", "WAY:N")] = "quantile"


class _Picture(NamedTuple):
    """A layer of cells: its name, what its pieces hold, and what was chosen for it."""

    name: str
    tree: PieceTree
    held: PackCells
    said: list[Fact]


class _Shapes(NamedTuple):
    """A layer of features in degrees, with a colour for each."""

    name: str
    table: FeatureTable
    colours: list[str]
    entries: tuple[tuple[str, str], ...]


def globe(inputs: Inputs, where: Where, output: Output, look: GlobeLook, carry: Carry = NOWHERE) -> Receipt:
    """Rasters, seen as one or each by itself, and features over them, as a KMZ for virtual globes.

    Raises UsageError for words that mean nothing, InputError where nothing lies in the area.
    """
    _check(output, look)
    traits = PackTraits("globe")
    return carried(
        carry, output, "globe", lambda: DeliveredPack(_packed(inputs, where, output, look), traits)
    )


def _packed(inputs: Inputs, where: Where, output: Output, look: GlobeLook) -> Receipt:
    found = identified(inputs, output, (RASTERS, FEATURES))
    rasters = given_layers(inputs)
    rasters += [open_layer(dataset.origin, inputs) for dataset in found if dataset.kind == RASTERS]
    groups = [[layer] for layer in rasters] if look.each else [rasters] if rasters else []
    pictures = [_picture(group, where, output, look) for group in groups]
    number, size = _room(pictures, output)
    paths = (*Given(RASTERS, (), inputs).paths, *(dataset.origin.name for dataset in found))
    receipt = Receipt(
        "deliver globe", paths, output.out, planned=output.dry_run, touched=paths,
        frame=pictures[0].tree.frame if pictures else None,
        chose=distinct(tuple(said for picture in pictures for said in picture.said)),
    )  # fmt: skip
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=number, what="pieces", free=room)
        return replace(receipt, results=(planned,))
    origins = [dataset.origin for dataset in found if dataset.kind == FEATURES]
    tables = [(origin.name.stem, _table(origin, inputs, where)) for origin in origins]
    empty = [fact("nothing_there", input=name) for name, table in tables if not len(table)]
    tables = [(name, table) for name, table in tables if len(table)]
    if not (pictures or tables):
        raise EmptyInputError("there is nothing to show", "nothing lies in the area", "check --within")
    shown = shape_look(look.field, look.classes, look.brush.ramp, look.brush.entries)
    shapes = [_shapes(layer, n) for n, layer in enumerate(layers_with(tables, shown))]
    made, checks = _written(pictures, shapes, output, look)
    told = replace(receipt, chose=(*receipt.chose, *empty))
    return replace(told, checks=checks, results=(made,), seconds=output.seconds)


def _check(output: Output, look: GlobeLook) -> None:
    check_ending(output.path, ENDINGS, "globe")
    if not 0 < look.opacity <= 1:
        raise UsageError(f"--opacity {look.opacity:g}", "it has 0 (clear) to 1", "write --opacity 0.7")
    if look.levels is not None and not 1 <= look.levels <= 12:
        raise UsageError(f"--levels {look.levels}", "there are 1 to 12", "leave it out, for all it takes")
    if look.clear is None and look.tolerance:
        raise UsageError("--tolerance without --clear", "it is of that colour", "add --clear white")
    if look.brush.ramp is not None:
        check_ramp(look.brush.ramp)


def _picture(layers: Sequence[Layer], where: Where, output: Output, look: GlobeLook) -> _Picture:
    """Rasters, seen as one, in degrees and as fine as they are."""
    layers = [replace(layer, raster=_cleared(layer, look)) for layer in layers]
    target = decide(layers, replace(where, crs=f"EPSG:{_DEGREES}"))
    view, said = joined(layers, target, look.method)
    view = masked(view, target.cover() if where.mask else None)
    spread = layers[0].raster if len(layers) == 1 and not where.within else view
    held = as_colours(view, look.brush, look.stretch, spread, output.limits)
    tree = PieceTree.of(target.frame, look.levels)
    name = layers[0].path.stem if len(layers) == 1 else look.title or output.path.stem
    levels = fact("detail_levels", levels=tree.levels, cells=tree.cells, pieces=tree.count)
    return _Picture(name, tree, held, [*said, *held.chose, levels])


def _cleared(layer: Layer, look: GlobeLook) -> Raster:
    """The cells of a layer without those of one colour."""
    if look.clear is None:
        return layer.raster
    view = expand_palette(layer.raster)
    if view.bands[0].dtype != "uint8" or len(view.bands) > 4:
        raise UsageError("--clear is for colours of 8 bits", f"{layer.path} holds values", "leave it out")
    return Cleared(view, colour_named(look.clear, "--clear"), look.tolerance)


def _room(pictures: Sequence[_Picture], output: Output) -> tuple[int, int]:
    """Pieces and bytes at most. Raises RefusedError past the ceiling."""
    number = sum(picture.tree.count for picture in pictures)
    size = sum(
        picture.tree.count * (picture.tree.cells**2 * picture.held.cell_bytes + _HEAD) for picture in pictures
    )
    check_room(output.path, size, output.ceiling_bytes, output.command, f"{number:,} pieces")
    return number, size


def _table(origin: Origin, inputs: Inputs, where: Where) -> FeatureTable:
    """Features in degrees that have a place, those of the area."""
    table = open_table(origin, replace(inputs, layer=None)).to(by_code(_DEGREES))
    table = table.take(~(shapely.is_missing(table.geometries) | shapely.is_empty(table.geometries)))
    return clipped(table, where)[0] if where.within else table


def _shapes(layer: ShapeLayer, number: int) -> _Shapes:
    """Features with their colours."""
    colours, entries, _ = coloured(layer.table, layer.look, number)
    return _Shapes(layer.name, layer.table, colours, tuple(entries))


def _shown(picture: _Picture, look: GlobeLook, number: int) -> Shown:
    """How a layer is shown; the first one lies on top."""
    pixels = (0.0, -1.0)
    if look.visible is not None:
        west, south, east, north = picture.tree.frame.bounds
        per_x, per_y = ground(picture.tree.frame)
        side = max((east - west) * per_x, (north - south) * per_y)
        near, far = _widths(look.visible)
        pixels = (_SCREEN * side / far, _SCREEN * side / near if near else -1.0)
    return Shown(look.opacity, look.order - 20 * number, pixels)


def _widths(text: str) -> tuple[float, float]:
    """`2km,200km` in metres. Raises UsageError."""
    near, comma, far = text.partition(",")
    ends = [parse_length(part.strip()).in_unit("length", 1.0) for part in (near, far)] if comma else []
    if not comma or not 0 <= ends[0] < ends[1]:
        why = "two widths of the view are needed, the nearer first"
        raise UsageError(f"--visible {text}", why, "write --visible 2km,200km")
    return ends[0], ends[1]


def _written(
    pictures: Sequence[_Picture], shapes: Sequence[_Shapes], output: Output, look: GlobeLook
) -> tuple[Result, tuple[Fact, ...]]:
    """The archive in its place, and what a reader of its own finds in it."""
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            archive = GlobeArchive(staged)
            try:
                parts, number = _filled(archive, pictures, shapes, output, look)
                archive.finish(markup.document(look.title or output.path.stem, *parts))
            except BaseException:
                archive.abort()
                raise
        found = read_globe(staged)
        marks = sum(len(layer.table) for layer in shapes)
        if (found.overlays, found.placemarks) != (number, marks):
            raise ResourceError(f"{output.path} does not hold what was made", f"{found}", "report it")
        size = size_on_disk(staged)
        staging.publish()
    said = [fact("pieces_read_back", pieces=number)] if pictures else []
    said += [fact("features_read_back", features=marks)] if shapes else []
    return Result(output.path, size, count=number, what="pieces", seconds=output.seconds), tuple(said)


def _filled(
    archive: GlobeArchive,
    pictures: Sequence[_Picture],
    shapes: Sequence[_Shapes],
    output: Output,
    look: GlobeLook,
) -> tuple[list[str], int]:
    """Everything put into an archive: the parts of its first document, and how many pictures there are."""
    folders, keys, number = list[str](), list[RampKey | ClassKey](), 0
    for layer in shapes:
        name = f"f{len(folders)}.kml"
        archive.document(name, markup.document(layer.name, markup.placemarks(layer.table, layer.colours)))
        folders.append(markup.link(layer.name, name))
        keys += [ClassKey(layer.name, layer.entries)] if layer.entries else []
    if shapes:
        archive.picture(markup.DOT, dot())
    for n, picture in enumerate(pictures):
        made = PictureLayer(archive, picture.name, n, picture.tree, _shown(picture, look, n))
        _put(made, picture, output, look)
        folders.append(made.folder())
        number += made.count
        key = key_of(picture.held.view, picture.name)
        keys += [key] if key is not None else []
    if keys and look.key:
        archive.picture("key.png", key_picture(keys))
        folders.append(markup.key_overlay("key.png"))
    return [_view_of(pictures, shapes), *folders], number


def _put(made: PictureLayer, picture: _Picture, output: Output, look: GlobeLook) -> None:
    """The pieces of a layer, each after those that lie in it. Raises RefusedError if there are none."""
    tree, held = picture.tree, picture.held
    drawn, method = held.picture(look.quality), "mode" if held.codes else "mean"
    steps = block_steps(tree.cells, tree.levels)
    task = TileTask(held.view, tree.pieces, tree.cells, steps, drawn, method, whole=False)
    for part in tiles_of(task, 0, output.limits):
        for tile in part:
            made.put(tile)
    if not made.count:
        raise RefusedError(
            f"no piece of {picture.name} holds anything", "all of it is void", "check --within"
        )


def _view_of(pictures: Sequence[_Picture], shapes: Sequence[_Shapes]) -> str:
    """The view from which everything is seen."""
    bounds = [picture.tree.frame.bounds for picture in pictures]
    bounds += [tuple(shapely.total_bounds(layer.table.geometries).tolist()) for layer in shapes]
    if not bounds:
        return ""
    west, south = min(b[0] for b in bounds), min(b[1] for b in bounds)
    east, north = max(b[2] for b in bounds), max(b[3] for b in bounds)
    return markup.look_at((west, south, east, north), max(east - west, north - south) * 111_320)
