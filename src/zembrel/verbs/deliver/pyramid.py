"""deliver pyramid: tiles of many zooms, in a pack."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from zembrel.deliver.devices.rules import PackTraits
from zembrel.deliver.keptblocks import KeptTask, kept
from zembrel.deliver.packs.kinds import KINDS, check_pack, pack_at, pack_kind
from zembrel.deliver.packs.packfacts import ENDINGS, PackFacts
from zembrel.deliver.quadtree import EncodedTile, TileTask, block_steps, tiles_of
from zembrel.deliver.tilepicture import FORMATS, MIXED
from zembrel.deliver.viewer import layer_beside, viewer_page
from zembrel.draw.ramps import check_ramp
from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.plan import check_room, free_at
from zembrel.errors import RefusedError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.tilefolder import TILE_INDEX
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Frame
from zembrel.grid.tiling import FINEST, TileRange, Tiling, tiling_called
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import take
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide, masked
from zembrel.packing.heights import joined_heights
from zembrel.packing.packcells import PackCells, as_colours, as_heights, in_colours
from zembrel.packing.packplaces import check_places
from zembrel.packing.tileformat import AUTO, Packing, TilePictures, check_mixed, picture_of
from zembrel.pictures.brush import NO_BRUSH
from zembrel.raster.heightcode import WAYS
from zembrel.raster.model import Raster
from zembrel.results.endings import BROWSER_PAGES, check_ending
from zembrel.results.receipt import Receipt, Result
from zembrel.sheetcutting.resuming import fingerprint
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbtable.record import RASTERS

_HEAD = 4_096  # bytes of a tile besides its cells, at most


def pyramid(
    inputs: Inputs, where: Where, output: Output, packing: Packing, carry: Carry = NOWHERE
) -> Receipt:
    """Rasters, seen as one, as tiles of all zooms: a folder, .zip, .mbtiles, .gpkg or .pmtiles.

    Raises UsageError for words that mean nothing, InputError where nothing lies in the area.
    """
    kind = pack_kind(output.path, output.to_folder)
    kind = "tiles" if kind == "folder" else kind
    return carried(carry, output, kind, lambda: _packed(kind, inputs, where, output, packing))


def _packed(sort: str, inputs: Inputs, where: Where, output: Output, packing: Packing) -> DeliveredPack:
    """The pack, and what a device asks of it."""
    kind, tiling = _checked(output, where, packing)
    given = take(inputs, output, (RASTERS,))
    layers = open_layers(given)
    target = decide(layers, replace(where, crs=f"EPSG:{tiling.code}"))
    zooms, chose = _zooms(target.frame, tiling, packing)
    tiles = tiling.range_of(target.frame.bounds, zooms[-1])
    final = replace(target, frame=tiling.frame_of(tiles, packing.tile_cells))
    if packing.heights is not None:
        view, said = joined_heights(layers, final, packing.method, output.limits)
    else:
        view, said = joined(layers, final, packing.method)
    held = _held(masked(view, final.cover() if where.mask else None), layers, where, output, packing)
    number, size = _room(tiles, zooms, held, output, packing)
    some = TilePictures(held.view, target.frame, tiles, packing.tile_cells, number, len(zooms) - 1)
    picture, look = picture_of(held, packing.tile_format, packing.quality, output.flatten, some)
    facts = _told(layers, output, packing, held, zooms, target.frame)
    shape = fact("zooms", lowest=zooms[0], highest=zooms[-1], tiling=tiling.name, cells=packing.tile_cells)
    paths = tuple(layer.path for layer in layers)
    receipt = Receipt(
        "deliver pyramid", paths, output.out, planned=output.dry_run, touched=paths, frame=target.frame,
        chose=distinct((shape, *chose, *said, *held.chose, *look)),
    )  # fmt: skip
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=number, what="tiles", free=room)
        return DeliveredPack(replace(receipt, results=(planned,)), PackTraits(sort))
    steps = block_steps(packing.tile_cells, len(zooms))
    task = TileTask(held.view, tiles, packing.tile_cells, steps, picture, "mode" if held.codes else "mean")
    keeper = None
    if packing.resume:
        keeper = kept(task, output.path, fingerprint(given, where, output, packing.of_blocks))
        receipt = replace(receipt, chose=(*receipt.chose, *keeper.said))
    made, found, formats = _written(kind, task, facts, output, packing, keeper)
    if keeper is not None:
        keeper.remove()
    products = {"viewer": Path(packing.viewer)} if packing.viewer else {}
    traits = PackTraits(sort, (zooms[0], zooms[-1]), packing.tile_cells, formats)
    done = replace(receipt, checks=tuple(found), results=(made,), products=products, seconds=output.seconds)
    return DeliveredPack(done, traits)


def _told(
    layers: Sequence[Layer],
    output: Output,
    packing: Packing,
    held: PackCells,
    zooms: Sequence[int],
    frame: Frame,
) -> PackFacts:
    """What the pack says of itself."""
    named = layers[0].path if len(layers) == 1 else output.path
    heights = held.heights.facts | {"unit": layers[0].raster.bands[0].unit or "m"} if held.heights else {}
    return PackFacts(
        packing.title or named.stem, tiling_called(packing.tiling), zooms[0], zooms[-1],
        carried_bounds(frame, by_code(4326)), packing.tile_cells, attribution=packing.attribution,
        elevation=heights,
    )  # fmt: skip


def _held(view: Raster, layers: Sequence[Layer], where: Where, output: Output, packing: Packing) -> PackCells:
    """The view as what tiles hold."""
    if packing.heights is not None:
        return as_heights(view, packing.heights, [layer.raster for layer in layers], output.limits)
    alone = len(layers) == 1 and not where.within  # then its own cells tell the range, and are sooner read
    spread = layers[0].raster if alone else view
    held = as_colours(view, packing.brush, packing.stretch, spread, output.limits)
    return held if packing.tile_format in (AUTO, MIXED, "png") else in_colours(held)


def _room(
    tiles: TileRange, zooms: Sequence[int], held: PackCells, output: Output, packing: Packing
) -> tuple[int, int]:
    """Tiles and bytes at most. Raises RefusedError past the ceiling, with the zooms that would fit."""
    counts = [tiles.coarser(step).tiles for step in range(len(zooms))][::-1]
    each = packing.tile_cells**2 * held.cell_bytes + _HEAD
    fitting = [zoom for n, zoom in enumerate(zooms, 1) if sum(counts[:n]) * each <= output.ceiling_bytes]
    fits = f"--zooms {zooms[0]}-{fitting[-1]}" if fitting else ""
    number, size = sum(counts), sum(counts) * each
    check_room(output.path, size, output.ceiling_bytes, output.command, f"{number:,} tiles", fits)
    return number, size


def _checked(output: Output, where: Where, packing: Packing) -> tuple[str, Tiling]:
    """The kind of pack and the tile matrix set. Raises UsageError, or RefusedError for what stands there."""
    kind = pack_kind(output.path, output.to_folder)
    if where.crs or where.onto or where.cell or where.longest:
        raise UsageError(
            "a pyramid has frames of its own", "its tiling says them", "use --tiling and --zooms"
        )
    _check_words(packing)
    check_mixed(packing.tile_format, KINDS[kind])
    if packing.rows != "top" and not KINDS[kind].rows_asked:
        why = "its standard says from where rows are counted"
        raise UsageError(f"--rows {packing.rows} for {output.path.name}", why, "leave --rows out")
    tiling = tiling_called(packing.tiling)
    if KINDS[kind].web_alone and tiling.name != "WebMercatorQuad":
        what = f"{output.path.name} holds WebMercatorQuad alone"
        raise UsageError(what, f"{KINDS[kind].title} knows no other", "write a folder, .zip or .gpkg")
    if packing.viewer:
        _check_viewer(kind, tiling, output.path, packing)
    if not output.dry_run:
        check_places(kind, output, packing.viewer)
    return kind, tiling


def _check_words(packing: Packing) -> None:
    """Raises UsageError for options that mean nothing, or exclude each other."""
    if packing.tile_cells not in (256, 512):
        raise UsageError(
            f"--tile-cells {packing.tile_cells}", "tiles have 256 or 512 cells", "leave it out for 256"
        )
    for option, value, known in (
        ("--tile-format", packing.tile_format, FORMATS), ("--rows", packing.rows, ("top", "bottom")),
        ("--heights", packing.heights or WAYS[0], WAYS),
    ):  # fmt: skip
        if value not in known:
            raise UsageError(f"{option} {value}", f"known are {', '.join(known)}", nearest_name(value, known))
    if packing.heights and packing.tile_format not in (AUTO, "png"):
        what = f"--heights in {packing.tile_format} tiles"
        raise UsageError(what, "such a format changes them", "leave --tile-format out")
    ways = (packing.heights is not None, packing.brush != NO_BRUSH, packing.stretch is not None)
    if sum(ways) > 1:
        what = "--heights, --stretch and a ramp or legend exclude each other"
        raise UsageError(what, "tiles hold one or the other", "give one of them")
    if not 1 <= packing.quality <= 100:
        raise UsageError(f"--quality {packing.quality}", "it has 1 to 100", "write --quality 85")
    if packing.beside and not packing.viewer:
        raise UsageError("--beside without --viewer", "it is a layer of that page", "add --viewer map.html")
    if packing.brush.ramp is not None:
        check_ramp(packing.brush.ramp)


def _check_viewer(kind: str, tiling: Tiling, out: Path, packing: Packing) -> None:
    page = Path(str(packing.viewer))
    check_ending(page, BROWSER_PAGES, "page")
    if kind != "folder":
        why = "a page reads tiles from a folder alone"
        raise UsageError(f"--viewer {page} for one file", why, "write the tiles into a folder/")
    layer_beside(page, page.parent, {"tile_matrix_set": tiling.name, "tiles": [""]})
    for other in packing.beside:
        if Path(other).resolve() == out.resolve():
            raise UsageError(f"--beside {other} is the pack itself", "it is on the page", "leave it out")
        layer_beside(page, Path(other))


def _zooms(frame: Frame, tiling: Tiling, packing: Packing) -> tuple[list[int], list[Fact]]:
    """The zooms asked for, else from that of the native cells to the one that holds all in a tile."""
    native = min(frame.cell)
    if packing.zooms is None:
        highest = tiling.fitting(native, packing.tile_cells)
        lowest = next((z for z in range(highest, 0, -1) if tiling.range_of(frame.bounds, z).tiles == 1), 0)
    else:
        first, dash, last = packing.zooms.partition("-")
        ends = [part.strip() for part in ((first, last) if dash else (first, first))]
        if not all(part.isdigit() for part in ends) or not int(ends[0]) <= int(ends[1]) <= FINEST:
            why = f"two zooms of 0 to {FINEST} are needed, the lower first"
            raise UsageError(f"--zooms {packing.zooms}", why, "write --zooms 8-14")
        lowest, highest = map(int, ends)
    cell = tiling.tile_span(highest) / packing.tile_cells
    said = [fact("cells_of_zoom", zoom=highest, cell=cell, native=native)]
    return list(range(lowest, highest + 1)), said


def _written(
    kind: str, task: TileTask, facts: PackFacts, output: Output, packing: Packing, keeper: KeptTask | None
) -> tuple[Result, list[Fact], tuple[str, ...]]:
    """The pack in its place, what a reader of its own finds in it, and the formats of its tiles."""
    counts: Counter[str] = Counter()
    zooms: Counter[int] = Counter()
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            store = pack_at(kind, staged, facts.tiling, from_bottom=packing.rows == "bottom")
            try:
                for tile in _all(tiles_of(task, facts.lowest, output.limits, keeper)):
                    store.put(tile)
                    counts[tile.format] += 1
                    zooms[tile.address.zoom] += 1
                if not counts:
                    raise RefusedError("no tile holds anything", "all of it is void", "check --within")
                facts = replace(facts, format=counts.most_common(1)[0][0], mixed=len(counts) > 1)
                store.finish(facts)
            except BaseException:
                store.abort()
                raise
        found = check_pack(kind, staged, facts, dict(zooms), from_bottom=packing.rows == "bottom")
        size = size_on_disk(staged)
        if packing.viewer:
            page = Path(packing.viewer)
            own = json.loads((staged / TILE_INDEX).read_text("utf-8"))
            layers = [layer_beside(page, output.path, own)]
            layers += [layer_beside(page, Path(other)) for other in packing.beside]
            staging.write_text(page, viewer_page(facts.name, layers))
        staging.publish()
    number = sum(counts.values())
    kinds = ", ".join(f"{count:,} {ENDINGS[name]}" for name, count in counts.most_common())
    whole = sum(
        task.tiles.coarser(facts.highest - zoom).tiles for zoom in range(facts.lowest, facts.highest + 1)
    )
    said = [fact("tiles_read_back", tiles=found, pictures=number)]
    said += [fact("empty_tiles", tiles=whole - number)] if whole > number else []
    said += [fact("two_formats")] if len(counts) > 1 else []
    result = Result(output.path, size, count=number, what="tiles", how=(kinds,), seconds=output.seconds)
    return result, said, tuple(ENDINGS[name] for name in counts)


def _all(parts: Iterator[list[EncodedTile]]) -> Iterator[EncodedTile]:
    for part in parts:
        yield from part
