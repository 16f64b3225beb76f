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


def classify(
    inputs: Inputs,
    where: Where,
    output: Output,
    breaks: Annotated[
        str | None, typer.Option("--breaks", metavar="LIST", help="Values between classes: 100,200,400.")
    ] = None,
    classes: Annotated[
        str | None,
        typer.Option("--classes", metavar="WAY:N", help="equal, quantile or natural: natural:5."),
    ] = None,
    rule: Annotated[
        list[str] | None,
        typer.Option(
            "--rule",
            metavar="'[CODE] NAME: CONDITION'",
            help="A class by a condition; repeatable, the first that holds counts.",
        ),
    ] = None,
    otherwise: Annotated[
        str | None,
        typer.Option(
            "--otherwise", metavar="[CODE] NAME", help="The class of the rest; of --codes keep.  [void]"
        ),
    ] = None,
    codes: Annotated[
        str | None, typer.Option("--codes", metavar="CSV", help="Old codes to new: old,new,name,colour.")
    ] = None,
    above: Annotated[
        float | None, typer.Option("--above", metavar="VALUE", help="1 above this, else 0.")
    ] = None,
    below: Annotated[
        float | None, typer.Option("--below", metavar="VALUE", help="1 below this, else 0.")
    ] = None,
    legend: Annotated[
        str | None, typer.Option("--legend", metavar="FILE", help="Names and colours of the new codes.")
    ] = None,
    ramp: Annotated[
        str | None, typer.Option("--ramp", metavar="NAME", help="Colours of classes of values.")
    ] = None,
    min_cells: Annotated[
        int, typer.Option("--min-cells", metavar="N", help="Smaller regions go to their largest neighbours.")
    ] = 0,
    diagonal: Annotated[
        bool, typer.Option("--diagonal", help="Of --min-cells: cells join at corners too.")
    ] = False,
    let: Annotated[
        list[str] | None,
        typer.Option("--let", metavar="NAME=FILE[:BAND]", help="A layer by the name rules use; repeatable."),
    ] = None,
    method: Annotated[
        str,
        typer.Option(
            "--method", metavar="NAME", help="How layers come to the frame of the first.", show_default=True
        ),
    ] = "auto",
) -> Any:
    """Values, codes or conditions to classes with names and colours."""
    from zembrel.verbs import classify as verb
    from zembrel.verbs.classing import Classing

    classing = Classing(
        breaks, classes, tuple(rule or ()), otherwise, codes, above, below, legend, ramp, min_cells, diagonal,
        tuple(let or ()), method,
    )  # fmt: skip
    return verb.classify(inputs, where, output, classing)


COMMANDS = {
    "classify": Command(
        classify,
        "zembrel classify slope.tif --rule 'gentle: value < 5' --otherwise steep --out steepness.tif",
    ),
    "derive": Command(
        derive, 'zembrel derive --let s=scene.tif --formula "(s.nir - s.red) / (s.nir + s.red)" --out ndx.tif'
    ),
    "terrain": Command(terrain, "zembrel terrain relief.tif --of slope --of aspect --out steepness.tif"),
}
