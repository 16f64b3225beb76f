"""Rasters that a verb is given, opened as the options say they are to be understood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.errors import InputError, UsageError
from zembrel.formats import open_raster, plainraw
from zembrel.formats.archives import layer_of
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.inputs.intake import Given, take
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.saidcrs import crs_of
from zembrel.raster.model import HasRemarks, Raster, pick_bands
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.nodata import WithNodata, says_nodata
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.views.place import Reframed
from zembrel.verbtable.record import RASTERS


@dataclass(frozen=True)
class Layer:
    """An opened input: the name it is known by, its cells, and where they are from if not a plain file."""

    path: Path
    raster: Raster
    remarks: tuple[str, ...] = ()  # of the reader
    elsewhere: Origin | None = None

    @property
    def held(self) -> bool:
        """Whether it is cells alone, which no file holds."""
        return self.elsewhere is None and not self.path.exists()

    @property
    def origin(self) -> Origin:
        return self.elsewhere or Origin.of(self.path)


def take_layers(options: Inputs, output: Output) -> list[Layer]:
    """The rasters that a verb of rasters alone is given. Raises InputError."""
    return open_layers(take(options, output, (RASTERS,)))


def open_layers(given: Given) -> list[Layer]:
    """The inputs in their order, as the options say they are to be understood. Raises InputError."""
    return [*given_layers(given.options), *(open_layer(o, given.options) for o in given.origins)]


def given_layers(options: Inputs) -> list[Layer]:
    """The rasters that are open already, under names of their own."""
    names = Given(RASTERS, (), options).paths
    return [
        Layer(name, _understood(name, raster, options))
        for name, raster in zip(names, options.rasters, strict=True)
    ]


def only_layer(verb: str, options: Inputs, output: Output) -> Layer:
    """The one raster of one band that a verb takes. Raises UsageError for more."""
    layers = take_layers(options, output)
    if len(layers) != 1:
        raise UsageError(f"{verb} takes one raster, not {len(layers)}", "each has its own values", "name one")
    raster = colours_of(layers[0].raster)
    bands = len(raster.bands)
    if bands != 1:
        raise UsageError(f"{layers[0].path} has {bands} bands", f"{verb} takes one", "choose it with --bands")
    return replace(layers[0], raster=raster)


def one_band(layer: Layer, why: str) -> Raster:
    """The raster of a layer that has one band. Raises UsageError, with why one is wanted, for several."""
    count = len(layer.raster.bands)
    if count > 1:
        raise UsageError(f"{layer.path} has {count} bands", why, "pick it with --bands")
    return layer.raster


def check_resolved(layer: Layer) -> CRS:
    """The CRS of a layer. Raises InputError if it has none that is known."""
    crs = layer.raster.frame.crs
    if crs is None or isinstance(crs, UnresolvedCRS):
        raise InputError(
            f"{layer.path} has no known CRS", "features have a place on the Earth", "add --from-crs CRS"
        )
    return crs


def open_layer(origin: Origin, options: Inputs) -> Layer:
    """One input, with its CRS, nodata and bands as the options say. Raises InputError."""
    if options.from_layout:
        raster = plainraw.open_as(origin.file, plainraw.parse_layout(options.from_layout))
    else:
        raster = open_raster(origin, layer_of(options.layer, origin))
    remarks = raster.remarks if isinstance(raster, HasRemarks) else ()
    path = origin.name
    if options.from_nodata is not None and says_nodata(raster):
        remarks = (*remarks, f"{path.name} declares its own nodata: --from-nodata is ignored for it")
    elsewhere = None if origin.plain else origin
    return Layer(path, _understood(path, raster, options), remarks, elsewhere)


def _understood(path: Path, raster: Raster, options: Inputs) -> Raster:
    """`raster` as the options say it is to be taken."""
    crs = crs_of(path, raster.frame.crs, options)
    if crs is not raster.frame.crs:
        raster = Reframed(raster, replace(raster.frame, crs=crs))
    if options.bands:
        raster = select_bands(raster, pick_bands(raster.bands, options.bands))
    if options.from_nodata is not None and not says_nodata(raster):
        raster = WithNodata(raster, options.from_nodata)
    return raster


def check_placed(layers: Sequence[Layer]) -> None:
    """Raise InputError if some layers have a CRS and others have not."""
    homeless = [layer for layer in layers if layer.raster.frame.crs is None]
    if not homeless or len(homeless) == len(layers):
        return
    known = next(layer.raster.frame.crs for layer in layers if layer.raster.frame.crs)
    code = f"EPSG:{known.code}" if known.code else f'"{known.name}"'
    others = f"among the other {len(layers) - 1} inputs" if len(layers) > 2 else "beside the other input"
    raise InputError(
        f"{homeless[0].path} has no coordinate reference system",
        f"without one its place {others} is unknown",
        f"add --from-crs {code} if that is what it is in, or leave the file out",
    )
