"""convert: other formats and cell types, with nothing lost unsaid."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

from zembrel.errors import RefusedError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.formats.legendfile import read_legend
from zembrel.inputs.aids import in_z_unit
from zembrel.inputs.intake import Given
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import FromZUnit, Inputs, Output, Where, ZUnit
from zembrel.optiontext import OptionText
from zembrel.passes.scaled import scaled, told_values
from zembrel.passes.stretch import stretched
from zembrel.passes.survey import seen
from zembrel.pictures.appearance import Stretch
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.quantize import ColourCounts, median_cut
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.quantized import DITHERS, Quantized
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.dispatch import by_kind
from zembrel.results.each import one_to_one, opened
from zembrel.results.opacity import settled
from zembrel.results.receipt import Receipt
from zembrel.results.retyped import check_type, retyped
from zembrel.results.write import Written, write


@dataclass(frozen=True)
class Values:
    """What may happen to values.

    `stretch` (`LO,HI` in values or per cent) brings them into the range of a narrower type, `rgb` makes
    colours of a palette, `z_unit` names another unit of heights.
    """

    stretch: Stretch = None
    rgb: Annotated[bool, OptionText("Convert a palette to colour bands.")] = False
    palette: Annotated[
        str | None,
        OptionText(
            "Convert colour bands to a palette of N colours, or to the palette of a legend file.", "N|LEGEND"
        ),
    ] = None  # a number of colours, or a legend file
    dither: Annotated[str, OptionText("With --palette: diffusion, ordered or none.", "NAME")] = "diffusion"
    scaled: Annotated[
        str | None,
        OptionText(
            "Store integers of --type with a scale and an offset; STEP is the precision.", "STEP|auto"
        ),
    ] = None  # a step or auto: whole numbers with a stored scale and offset
    unscaled: Annotated[bool, OptionText("Apply stored scales and offsets.")] = False
    z_unit: ZUnit = None
    from_z_unit: FromZUnit = None
    each_band: Annotated[bool, OptionText("Write a file for each band.")] = False  # a file for each
    resume: Annotated[bool, OptionText("For points: keep results of an earlier run.")] = (
        False  # of points: keep results that stand already
    )


def convert(inputs: Inputs, output: Output, values: Values) -> Receipt:
    """Each input in another format or cell type.

    A type that cannot hold the values is refused, with the count of cells concerned, unless `values`
    says how.
    """
    return by_kind(
        "convert", inputs, Where(z_unit=values.z_unit, from_z_unit=values.from_z_unit), output, values
    )


def of_rasters(given: Given, where: Where, output: Output, values: Values) -> Receipt:
    """Each raster in another format or cell type; `where` names another unit of heights."""
    layers, unopened = opened(given, output)
    if values.each_band:
        layers, output = _bands_apart(layers, output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        view, chose = layer.raster, []
        if values.rgb:
            view = expand_palette(view)
            chose.append(fact("palette_to_bands"))
        if values.palette:
            view, more = settled(view, "a palette", output, holds=False)
            chose += more
            view, said = _in_few_colours(layer.path, view, values, output)
            chose.append(said)
        view, changed = in_z_unit(view, where)
        view, more = _in_type(layer.path, view, output, values)
        return write(view, final, replace(output, type=None)), chose + changed + more

    return one_to_one("convert", layers, output, make, unopened)


def _in_type(path: Path, view: Raster, output: Output, values: Values) -> tuple[Raster, list[Fact]]:
    """`view` with its values scaled or told as asked, in the asked type."""
    if values.unscaled:
        view, said = told_values(view)
        view, more = _typed(path, view, output, values)
        return view, said + more
    if values.scaled:
        if values.stretch:
            raise UsageError(
                "--scaled excludes --stretch", "each fills the range of the type", "leave one out"
            )
        return scaled(view, output.type, values.scaled, output.limits)
    return _typed(path, view, output, values)


def _in_few_colours(path: Path, view: Raster, values: Values, output: Output) -> tuple[Raster, Fact]:
    """`view` in a palette, and what that is. Raises UsageError or RefusedError."""
    if values.dither not in DITHERS:
        raise UsageError(
            f"--dither {values.dither}", "errors are spread or not", nearest_name(values.dither, DITHERS)
        )
    if len(view.bands) < 3 or shared_type(view.bands[:3]).name != "uint8":
        kinds = f"{len(view.bands)} band(s) of {shared_type(view.bands).name}"
        raise RefusedError(
            f"{path} has {kinds}",
            "a palette is made for red, green and blue of 8 bits",
            "choose three with --bands, and use --stretch 2%,98% --type uint8 first",
        )
    if not str(values.palette).isdigit():
        legend = read_legend(Path(str(values.palette)))
        if any(not 0 <= entry.code < 256 for entry in legend.entries):
            raise UsageError(
                f"{values.palette} has codes above 255", "a palette has 256 at most", "renumber them"
            )
        return Quantized(view, legend, values.dither), fact(
            "given_colours", colours=len(legend.entries), dither=values.dither
        )
    most = int(str(values.palette))
    if not 2 <= most <= 256:
        raise UsageError(f"--palette {most}", "a palette has 2 to 256 colours", "write --palette 64")
    palette = median_cut(seen(view, ColourCounts(), output.limits), most)
    return Quantized(view, palette, values.dither), fact(
        "median_cut", colours=len(palette.entries), dither=values.dither
    )


def _bands_apart(layers: list[Layer], output: Output) -> tuple[list[Layer], Output]:

    apart = [
        Layer(
            layer.path.with_name(f"{layer.path.stem}_{band.name.replace('/', '_')}{layer.path.suffix}"),
            select_bands(layer.raster, (n,)),
        )
        for layer in layers
        for n, band in enumerate(layer.raster.bands)
    ]
    return apart, replace(output, out=str(output.out).rstrip("/") + "/")


def _typed(path: Path, view: Raster, output: Output, values: Values) -> tuple[Raster, list[Fact]]:
    """`view` in the asked type and what was done to its values. Raises RefusedError for losses."""
    source, stretch = shared_type(view.bands).name, values.stretch
    wanted = output.type or ("uint8" if stretch else source)
    check_type(wanted)
    if stretch:
        return stretched(unscaled(view), stretch, wanted, output.limits)
    made, did = retyped(view, wanted, output, str(path), "--stretch 2%,98%")
    changed = [fact("type_changed", from_type=source, to_type=wanted)] if wanted != source else []
    return made, [*changed, *did]
