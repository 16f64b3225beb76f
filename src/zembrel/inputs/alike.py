"""Layers of unlike bands brought to like ones, by a stated rule."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from zembrel.errors import InputError
from zembrel.facts import Fact, fact
from zembrel.inputs.layers import Layer
from zembrel.raster.model import Band, has_alpha, shared_type
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.cast import cast
from zembrel.raster.views.opacity import Opaque
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.unscaled import unscaled


def alike(layers: Sequence[Layer]) -> tuple[list[Layer], list[Fact]]:
    """The layers with the same bands in the same order and of one type, and what was done for that.

    Palettes that differ become colour bands. Bands with names are matched by name, in the order of the
    first layer, those that not all have left out; bands without names by their place. Unlike types
    become the one that holds all. Raises InputError where bands cannot be matched.
    """
    layers, chose = list(layers), []
    legends = {layer.raster.bands[0].legend for layer in layers}
    if len(legends) > 1 and any(layer.raster.bands[0].legend for layer in layers):
        layers = [replace(layer, raster=expand_palette(layer.raster)) for layer in layers]
        chose.append(fact("palettes_differ"))
    if len({(band.scale, band.offset) for layer in layers for band in layer.raster.bands}) > 1:
        layers = [replace(layer, raster=unscaled(layer.raster)) for layer in layers]
        chose.append(fact("scales_differ"))
    seen_through = [has_alpha(layer.raster.bands) for layer in layers]
    if any(seen_through) and not all(seen_through):
        layers = [
            layer if alpha else replace(layer, raster=Opaque(layer.raster))
            for layer, alpha in zip(layers, seen_through, strict=True)
        ]
        chose.append(fact("opacity_added"))
    layers, matched = _matched(layers)
    types = sorted({shared_type(layer.raster.bands).name for layer in layers})
    if len(types) > 1:
        common = shared_type(tuple(Band("", kind) for kind in types)).name
        layers = [replace(layer, raster=cast(layer.raster, common)) for layer in layers]
        matched.append(fact("type_that_holds", type=common, types=tuple(types)))
    return layers, chose + matched


def _matched(layers: list[Layer]) -> tuple[list[Layer], list[Fact]]:
    names = [tuple(band.name for band in layer.raster.bands) for layer in layers]
    if len(set(names)) == 1:
        return layers, []
    common = [name for name in names[0] if all(name in others for others in names)]
    spoken = [name for name in common if not name.startswith("band")]
    if spoken and len(spoken) == len(common):
        picked = [
            replace(layer, raster=select_bands(layer.raster, tuple(own.index(name) for name in common)))
            for layer, own in zip(layers, names, strict=True)
        ]
        dropped = len(set(names[0]) - set(common)) or any(len(own) > len(common) for own in names)
        return picked, [fact("bands_by_name", bands=tuple(common), others=bool(dropped))]
    odd = next((n for n, own in enumerate(names) if len(own) != len(names[0])), None)
    if odd is not None:
        raise InputError(
            f"{layers[odd].path} has {len(names[odd])} band(s), {layers[0].path} has {len(names[0])}",
            "bands of one result are made of like bands, and these have no names in common",
            "choose the same from all with --bands",
        )
    return layers, [fact("bands_by_place")]
