"""Verbs that change the grid."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.command import Command
from zembrel.cli.options import option
from zembrel.verbs.options import Inputs, Output, Where

Stretch = Annotated[
    str | None,
    typer.Option(
        "--stretch",
        metavar="LO,HI",
        help="Ends that fill the range: 0,3000 or 2%,98%; each:2%,98% of each band for itself.",
    ),
]


def clip(
    inputs: Inputs,
    where: Where,
    output: Output,
    touching: Annotated[
        bool, typer.Option("--touching", help="Keep every cell that the outline meets.")
    ] = False,
    outside: Annotated[bool, typer.Option("--outside", help="Keep what lies outside instead.")] = False,
    feather: Annotated[
        str | None,
        typer.Option("--feather", metavar="CELLS|LENGTH", help="Let an alpha band fade in from the outline."),
    ] = None,
    method: Method = "auto",
    keep_bounds: Annotated[
        bool,
        typer.Option(
            "--keep-bounds",
            help="Of packed points: keep bounds of chunks beside the input, for the next clip.",
        ),
    ] = False,
) -> Any:
    """Keep an area. Native cells stay as they are unless --onto, --cell or --crs ask for others; an
    outline keeps the cells whose middle it holds."""
    from zembrel.verbs import clip as verb

    return verb.clip(inputs, where, output, verb.Clipping(touching, outside, feather, method, keep_bounds))


def tile(
    inputs: Inputs,
    where: Where,
    output: Output,
    split: Annotated[
        str | None, typer.Option("--split", metavar="CxR", help="Columns x rows of sheets: 4x3.")
    ] = None,
    size: Annotated[
        str | None,
        typer.Option("--size", metavar="LENGTH", help="Ground size; edges on whole multiples: 1km, 1km/2km."),
    ] = None,
    cells: Annotated[
        str | None, typer.Option("--cells", metavar="N", help="Cells of a sheet: 512, 512x256.")
    ] = None,
    at_most: Annotated[
        str | None,
        typer.Option(
            "--at-most", metavar="BYTES", help="Fewest sheets whose files are no larger than this: 200MB."
        ),
    ] = None,
    by: Annotated[
        str | None,
        typer.Option("--by", metavar="FILE", help="A sheet for each polygon, blank outside."),
    ] = None,
    margin: Annotated[
        str | None, typer.Option("--margin", metavar="CELLS|LENGTH", help="What to add around each sheet.")
    ] = None,
    name: Annotated[
        str | None,
        typer.Option(
            "--name",
            metavar="TEMPLATE",
            help="From stem, number, row, col, west, south, east, north or a field: {row:02}_{col:02}.",
        ),
    ] = None,
    index: Annotated[
        str | None, typer.Option("--index", metavar="FILE", help="The sheets as features: .gpkg or .geojson.")
    ] = None,
    resume: Annotated[
        bool,
        typer.Option("--resume", help="Go on: sheets of a run with these inputs and options are kept."),
    ] = False,
    touching: Annotated[
        bool, typer.Option("--touching", help="With --by: keep every cell that the outline meets.")
    ] = False,
    method: Method = "auto",
) -> Any:
    """Cut into sheets that meet without gap or overlap. Several inputs are seen as one, the first valid
    winning; sheets without a valid cell are left out."""
    from zembrel.verbs import tile as verb
    from zembrel.verbs.cutting import Cutting

    cutting = Cutting(split, size, cells, at_most, by, margin, name, index, resume, touching, method)
    return verb.tile(inputs, where, output, cutting)


def resample(inputs: Inputs, where: Where, output: Output, method: Method = "auto") -> Any:
    """A new cell size. When cells grow, every source cell counts: nothing aliases."""
    from zembrel.verbs import resample as verb

    return verb.resample(inputs, where, output, verb.Resampling(method))


def reproject(inputs: Inputs, where: Where, output: Output, method: Method = "auto") -> Any:
    """A new CRS at native resolution, unless --cell says otherwise. Several results share one lattice."""
    from zembrel.verbs import resample as verb

    return verb.reproject(inputs, where, output, verb.Resampling(method))


def convert(
    inputs: Inputs,
    output: Output,
    stretch: Stretch = None,
    rgb: Annotated[bool, typer.Option("--rgb", help="Palette to colour bands.")] = False,
    palette: Annotated[
        str | None,
        typer.Option(
            "--palette", metavar="N|LEGEND", help="Colour bands to a palette of N, or to a given one."
        ),
    ] = None,
    dither: Annotated[
        str, typer.Option("--dither", metavar="NAME", help="With --palette: diffusion, ordered or none.")
    ] = "diffusion",
    scaled: Annotated[
        str | None,
        typer.Option(
            "--scaled", metavar="STEP|auto", help="Whole numbers of --type with a stored scale and offset."
        ),
    ] = None,
    unscaled: Annotated[
        bool, typer.Option("--unscaled", help="The values that stored scales and offsets stand for.")
    ] = False,
    each_band: Annotated[bool, typer.Option("--each-band", help="A file for each band.")] = False,
    resume: Annotated[
        bool, typer.Option("--resume", help="Of points: go on; results that stand already are kept.")
    ] = False,
    z_unit: Annotated[str | None, option("z_unit")] = None,
    from_z_unit: Annotated[str | None, option("from_z_unit")] = None,
) -> Any:
    """Another format or cell type. What would lose values is refused unless you say how."""
    from zembrel.verbs import convert as verb

    values = verb.Values(
        stretch,
        rgb,
        palette,
        dither,
        scaled,
        unscaled,
        z_unit,
        from_z_unit,
        each_band,
        resume,
    )
    return verb.convert(inputs, output, values)


def mask(
    inputs: Inputs,
    output: Output,
    by: Annotated[
        str | None, typer.Option("--by", metavar="LAYER", help="Blank where this raster is empty.")
    ] = None,
    where: Annotated[
        str | None,
        typer.Option(
            "--where",
            metavar="CONDITION",
            help="Blank where it holds, on bands of --by or of the input: 'value < 0 or value > 900'.",
        ),
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Blank all other cells instead.")] = False,
) -> Any:
    """Blank cells where another layer is empty, or where a condition holds."""
    from zembrel.verbs import mask as verb

    return verb.mask(inputs, output, by=by, where=where, keep=keep)


def fill(
    inputs: Inputs,
    output: Output,
    reach: Annotated[
        str | None, typer.Option("--reach", metavar="CELLS|LENGTH", help="How far from valid cells: 20, 50m.")
    ] = None,
) -> Any:
    """Close voids from their rims, as far as a reach goes; what lies deeper stays void."""
    from zembrel.verbs import fill as verb

    return verb.fill(inputs, output, reach=reach)


COMMANDS = {
    "clip": Command(clip, "zembrel clip island.tif --within coast.geojson --out land.tif"),
    "mask": Command(mask, "zembrel mask relief.tif --where 'value < 1' --out hills.tif"),
    "fill": Command(fill, "zembrel fill relief.tif --reach 50m --out closed.tif"),
    "tile": Command(tile, "zembrel tile island.tif --size 2km --index sheets.gpkg --out sheets/"),
    "resample": Command(resample, "zembrel resample dem/relief.tif --cell 50m --out coarse.tif"),
    "reproject": Command(reproject, "zembrel reproject island.tif --crs EPSG:3857 --out web.tif"),
    "convert": Command(convert, "zembrel convert island.tif --out island.png"),
}
