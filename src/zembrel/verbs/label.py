"""label: mend what a file says of itself without rewriting its cells."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any

from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.run import run
from zembrel.errors import UsageError
from zembrel.formats import format_named, identify
from zembrel.formats.legendfile import read_legend
from zembrel.formats.tiff.relabel import overview_sink, relabelled_images, write_relabelled
from zembrel.formats.tiff.tiffopening import open_tiff
from zembrel.formats.tiff.wording import Wording
from zembrel.formats.worldfile import world_file_name, write_world_file
from zembrel.geodesy.crs import label as name_of
from zembrel.geodesy.text import write_crs
from zembrel.grid.frame import Affine, Frame
from zembrel.inputs.finding import find
from zembrel.inputs.layers import open_layer
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.within import parse_crs_phrase
from zembrel.measure import exact_number
from zembrel.optiontext import OptionText
from zembrel.points.files import holds_points
from zembrel.points.files.catalogue import format_of as points_format
from zembrel.points.las.relabel import write_with_crs
from zembrel.raster.model import Band, Raster
from zembrel.raster.views.cast import fitting_nodata
from zembrel.raster.views.nodata import WithNodata
from zembrel.results.receipt import Receipt, Result


@dataclass(frozen=True)
class Changes:
    """What to change; None leaves a thing as it is."""

    crs: Annotated[str | None, OptionText("CRS of the file.", "CRS", short="-c")] = None
    nodata: Annotated[str | None, OptionText("Nodata value of the file; `none` declares none.", "VALUE")] = (
        None
    )
    names: Annotated[str | None, OptionText("Band names, e.g. red,green,blue.", "LIST")] = None
    legend: Annotated[str | None, OptionText("Legend file with classes and colours.", "FILE")] = None
    shift: Annotated[str | None, OptionText("Shift by X,Y in CRS units.", "X,Y")] = None
    overviews: Annotated[bool, OptionText("Add or rebuild overviews.")] = False


def label(inputs: Inputs, output: Output, changes: Changes) -> Receipt:
    """Mend one file in place, or into `output.out`. Raises UsageError for changes it cannot hold."""
    found = find(inputs)
    if len(found) != 1:
        raise UsageError(
            f"label mends one file, not {len(found)}", "each says something else", "call it for each"
        )
    if changes == Changes():
        raise UsageError(
            "there is nothing to change", "no change is named", "add --crs, --nodata, --names, --shift ..."
        )
    if not found[0].plain:
        raise UsageError(
            f"{found[0]} lies in an archive or on the web", "label mends plain files", "unpack it first"
        )
    path = found[0].file
    final = Path(output.out) if output.out else path
    if holds_points(path):
        return _label_points(path, final, output, changes)
    raster = open_layer(found[0], inputs).raster
    frame, bands, did = _mended(path, raster, changes)
    if identify(path) == "geotiff":
        if not output.dry_run:
            wording = Wording(frame, bands, bands[0].nodata)
            _rewrite(path, final, wording, output, overviews=changes.overviews)
    else:
        beside = _beside(path, frame, changes)
        if not output.dry_run:
            with Staging(replace=True, mends=True) as staging:
                for name, text in beside.items():
                    staging.write_text(name, text)
                staging.publish()
        final = next(iter(beside))
    return _receipt(path, final, did, "cells untouched", output, frame)


def _label_points(path: Path, final: Path, output: Output, changes: Changes) -> Receipt:
    """Another CRS in the header of a LAS or LAZ file, or beside a text of points."""
    crs = parse_crs_phrase(changes.crs) if changes.crs else None
    if crs is None or replace(changes, crs=None) != Changes():
        raise UsageError(f"{path} holds points", "their CRS alone can be mended", "give --crs alone")
    form, beside = points_format(path), path.with_suffix(".prj")
    if form not in ("las", "laz", "copc", "pointtext"):
        raise UsageError(
            f"{path} is no LAS or LAZ file", "only those can be mended", "use convert --from-crs"
        )
    if form == "pointtext":
        if output.out:
            raise UsageError(f"--out {output.out}", f"{path.name} gets a .prj beside it", "leave --out out")
        final = beside
    if not output.dry_run:
        in_place = not output.out
        with Staging(output.replace or in_place, mends=in_place) as staging:
            if form == "pointtext":
                staging.write_text(beside, write_crs(crs, "prj") + "\n")
            else:
                staged = staging.path_for(final)
                with resource_errors(final):
                    write_with_crs(path, staged, crs)
            staging.publish()
    return _receipt(path, final, {"crs": name_of(crs)}, "points untouched", output)


def _receipt(
    path: Path, final: Path, changed: Mapping[str, Any], how: str, output: Output, frame: Frame | None = None
) -> Receipt:
    """What was changed, and where that stands."""
    return Receipt(
        "label",
        (path,),
        None if path == final else str(final),
        planned=output.dry_run,
        frame=frame,
        results=(Result(final, how=(how,)),),
        own={"changed": dict(changed)},
    )


def _mended(path: Path, raster: Raster, changes: Changes) -> tuple[Frame, tuple[Band, ...], dict[str, Any]]:
    frame, bands, did = raster.frame, raster.bands, dict[str, Any]()
    if changes.crs:
        frame = replace(frame, crs=parse_crs_phrase(changes.crs))
        did["crs"] = changes.crs
    if changes.shift:
        frame = replace(frame, affine=_shifted(frame.affine, changes.shift))
        did["shift"] = changes.shift
    if changes.nodata is not None:
        value = _nodata(changes.nodata, bands)
        bands = tuple(replace(band, nodata=value) for band in bands)
        did["nodata"] = changes.nodata
    if changes.names:
        names = [name.strip() for name in changes.names.split(",")]
        if len(names) != len(bands):
            raise UsageError(
                f"{len(names)} names for {len(bands)} bands",
                f"{path} needs one each",
                "separate them by commas",
            )
        bands = tuple(replace(band, name=name) for band, name in zip(bands, names, strict=True))
        did["names"] = names
    if changes.legend:
        if len(bands) != 1 or bands[0].type != "uint8":
            raise UsageError(f"{path} cannot hold a legend", "one band of uint8 can", "leave --legend out")
        bands = (replace(bands[0], legend=read_legend(Path(changes.legend))),)
        did["legend"] = changes.legend
    if changes.overviews:
        did["overviews"] = True
    return frame, bands, did


def _shifted(affine: Affine, text: str) -> Affine:
    try:
        dx, dy = (exact_number(part.strip()) for part in text.split(","))
    except ValueError as exc:
        raise UsageError(f"--shift {text}", "X,Y in CRS units is needed", "write --shift 0.5,-0.5") from exc
    return replace(affine, x0=float(Fraction(affine.x0) + dx), y0=float(Fraction(affine.y0) + dy))


def _nodata(text: str, bands: tuple[Band, ...]) -> float | int | None:
    if text.lower() == "none":
        return None
    try:
        value = fitting_nodata(float(text), bands[0].type)
    except ValueError as exc:
        raise UsageError(f"--nodata {text}", "a number or none is needed", "write --nodata 0") from exc
    if value is None:
        raise UsageError(
            f"nodata {text} does not fit {bands[0].type}", "no cell could have it", "choose one that fits"
        )
    return value


def _rewrite(path: Path, final: Path, wording: Wording, output: Output, *, overviews: bool) -> None:

    source = open_tiff(path)
    images = relabelled_images(path, wording, keep_reduced=not overviews)
    in_place = not output.out
    with Staging(output.replace or in_place, mends=in_place) as staging:
        staged = staging.path_for(final)
        with resource_errors(final):
            if overviews:
                nodata = wording.nodata
                view = source if nodata is None else WithNodata(source, nodata)
                run(
                    view, overview_sink(staged, view, images, source.directory.container.order), output.limits
                )
            else:
                write_relabelled(staged, images, source)
        staging.publish()


def _beside(path: Path, frame: Frame, changes: Changes) -> dict[Path, str]:
    """Files beside `path` that say where it is, and their texts. Raises UsageError for what none can say."""
    form = format_named(identify(path))
    inside = changes.nodata or changes.names or changes.legend or changes.overviews
    if inside or (form.holds_place and (changes.shift or form.holds_crs)):
        held = "its place is in the file" if form.holds_place else "beside it only its place can be written"
        raise UsageError(f"{path} cannot be told that from beside", held, "convert it to GeoTIFF first")
    prj = {path.with_suffix(".prj"): write_crs(frame.crs, "prj") + "\n"} if frame.crs is not None else {}
    return prj if form.holds_place else {world_file_name(path): write_world_file(frame)} | prj
