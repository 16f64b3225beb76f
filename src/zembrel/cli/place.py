"""Verbs about coordinate reference systems and coordinates."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.cli.options import option
from zembrel.verbs.options import Output, Where


def crs(
    action: Annotated[str, typer.Argument(hidden=True)] = "",
    words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None,
    form: Annotated[
        str | None, typer.Option("--as", metavar="FORM", help="Show it as wkt2, wkt1, prj or json.")
    ] = None,
    all_found: Annotated[bool, typer.Option("--all", help="All that are found.")] = False,
    places: Annotated[str | None, option("places")] = None,
) -> Any:
    """find TEXT or AREA: CRSs by name or place. show CRS: what it is. fit LAYER or AREA: which ones suit it,
    with how far their scale is off there. operations CRS CRS: the ways from one to the other."""
    from zembrel.verbs import crs as verb

    return verb.crs(action, tuple(words or ()), form=form, all_found=all_found, places=places)


def coords(
    output: Output,
    from_crs: Annotated[
        str | None, typer.Option("--from-crs", metavar="CRS", help="What the coordinates are in.")
    ] = None,
    target: Annotated[
        str | None, typer.Option("-c", "--crs", metavar="CRS", help="What they shall be in.")
    ] = None,
    inputs_from: Annotated[
        str | None, typer.Option("--inputs-from", metavar="FILE", help="Lines from a file, not stdin.")
    ] = None,
    swapped: Annotated[bool, typer.Option("--yx", help="Latitude comes first, in degrees.")] = False,
    axes: Annotated[
        str | None, typer.Option("--axes", metavar="registry", help="Order and signs as registered.")
    ] = None,
    keep_going: Annotated[bool, typer.Option("--keep-going", help="Leave bad lines out; exit 7.")] = False,
    strict: Annotated[bool, option("strict_crs")] = False,
    shift_grid: Annotated[str | None, option("shift_grid")] = None,
    height_grid: Annotated[str | None, option("height_grid")] = None,
    epoch: Annotated[float | None, option("epoch")] = None,
    z_unit: Annotated[str | None, option("z_unit")] = None,
    from_z_unit: Annotated[str | None, option("from_z_unit")] = None,
) -> Any:
    """Coordinates from one CRS into another: lines x,y[,z] from stdin to stdout. Numbers or degrees, minutes
    and seconds (24 00 30 W, 46d0m30sN) are read; full precision is written. z changes where both CRSs say
    what heights mean ("EPSG:32626 + EPSG:5773"); what follows is carried along."""
    from zembrel.errors import UsageError
    from zembrel.verbs import coords as verb

    if axes not in (None, "registry"):
        raise UsageError(
            f"--axes {axes}", "axes are x first, or as registered", "write --axes registry, or leave it out"
        )
    reading = verb.CoordinateReading(swapped, axes == "registry", keep_going)
    given = Where(
        strict_crs=strict, shift_grid=shift_grid, height_grid=height_grid, epoch=epoch, z_unit=z_unit,
        from_z_unit=from_z_unit,
    )  # fmt: skip
    return verb.coords(from_crs, target, output, reading, given, lines=verb.read_lines(inputs_from))


COMMANDS = {
    "crs": Command(crs, "zembrel crs find UTM zone 26N"),
    "coords": Command(coords, "zembrel coords --from-crs EPSG:4326 --crs EPSG:32626 < points.csv"),
}
