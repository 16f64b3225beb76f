"""Verbs that derive new layers from others."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where


def terrain(
    inputs: Inputs,
    output: Output,
    of: Annotated[
        list[str] | None,
        typer.Option(
            "--of",
            metavar="NAME",
            help="slope, aspect, hillshade, roughness, ruggedness, position, curvature (or one of "
            "curvature:profile, :plan, :mean); repeatable, a band each.",
        ),
    ] = None,
    way: Annotated[
        str, typer.Option("--in", metavar="UNIT", help="Of slopes: degrees, percent or ratio.")
    ] = "degrees",
    sun: Annotated[
        list[str] | None,
        typer.Option("--sun", metavar="AZ,ALT", help="Where light comes from; several blend.  [315,45]"),
    ] = None,
    at: Annotated[
        str | None,
        typer.Option("--sun-at", metavar="TIME", help="The sun as it stands then: 2027-06-21T15:00Z."),
    ] = None,
    hours: Annotated[
        str | None,
        typer.Option("--hours", metavar="A-B", help="A band for each hour of the day of --sun-at: 6-20."),
    ] = None,
    cast: Annotated[bool, typer.Option("--cast", help="Let the surface cast shadows.")] = False,
    flat: Annotated[
        float | None, typer.Option("--flat", metavar="VALUE", help="Aspect of level cells; none if not said.")
    ] = None,
    true_north: Annotated[
        bool, typer.Option("--true-north", help="Count aspects and --sun from true north, not the grid's.")
    ] = False,
    reach: Annotated[
        str | None,
        typer.Option("--reach", metavar="CELLS|LENGTH", help="Of position: that of the mean."),
    ] = None,
    z_unit: Annotated[
        str | None, typer.Option("--z-unit", metavar="UNIT", help="What heights are in: m, ft ...")
    ] = None,
) -> Any:
    """Slope, aspect, light and more of a layer of heights. Edges are computed; what is void stays void."""
    from zembrel.verbs import terrain as verb

    names, suns = tuple(of or ()), tuple(sun or ())
    surface = verb.Surface(names, way, suns, at, hours, cast, flat, true_north, reach, z_unit)
    return verb.terrain(inputs, output, surface)


def derive(
    inputs: Inputs,
    where: Where,
    output: Output,
    let: Annotated[
        list[str] | None,
        typer.Option(
            "--let", metavar="NAME=FILE[:BAND]", help="A layer by the name formulas use; repeatable."
        ),
    ] = None,
    formula: Annotated[
        list[str] | None,
        typer.Option(
            "--formula",
            metavar="[NAME=]TEXT",
            help='Such as "(s.nir - s.red) / (s.nir + s.red)"; repeatable.',
        ),
    ] = None,
    index: Annotated[
        list[str] | None,
        typer.Option(
            "--index", metavar="NAME", help="An index of the literature: ndvi, ndwi, nbr; repeatable."
        ),
    ] = None,
    indices: Annotated[
        list[str] | None,
        typer.Option("--indices", metavar="FILE", help="A table that adds to the indices (docs/derive.md)."),
    ] = None,
    method: Annotated[
        str,
        typer.Option("--method", metavar="NAME", help="How layers come to the frame of the first.  [auto]"),
    ] = "auto",
) -> Any:
    """Plain algebra over named layers: a band for each formula, on the frame of the first layer.

    With INPUT the bands of each go by their own names, and each has its own result.
    """
    from zembrel.verbs import derive as verb

    lets, formulas, names, files = (tuple(given or ()) for given in (let, formula, index, indices))
    return verb.derive(inputs, where, output, verb.Algebra(lets, formulas, names, files, method))


COMMANDS = {
    "derive": Command(
        derive,
        'zembrel derive --let s=scene.tif --formula "(s.nir - s.red) / (s.nir + s.red)" --out ndx.tif',
    ),
    "terrain": Command(
        terrain, "zembrel terrain relief.tif --of slope --of aspect --out steepness.tif", ("trim_collar",)
    ),
}
