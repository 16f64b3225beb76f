"""A mosaic as a quilt: what would be joined is noted, and nothing is computed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from zembrel.engine.commit import Staging, check_free
from zembrel.errors import InputError, RefusedError
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.quilt import QuiltSheet, Sewing, write_quilt
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.methods import choose_method
from zembrel.inputs.options import Output
from zembrel.inputs.pieces import APART, native_feather, shared_lattice
from zembrel.inputs.target import Target
from zembrel.raster.model import Band
from zembrel.results.receipt import Receipt, Result


def refuse_changes(changed: Sequence[str]) -> None:
    """Raise RefusedError for options that would change cells."""
    if changed:
        raise RefusedError(
            f"a quilt cannot hold the work of {', '.join(changed)}",
            "it names sheets as they are",
            "leave it out, or write the mosaic to a GeoTIFF",
        )


def _joined_first(
    frames: Sequence[Frame], sheets: list[QuiltSheet], sewing: Sewing, target: Target
) -> tuple[Frame | None, list[QuiltSheet], Sewing, Fact]:
    """The lattice that sheets share, the sheets on it, the feather in its cells, and what is to be said."""
    shared = shared_lattice(frames)
    if shared is None:
        said = fact("unlike_lattices")
        return None, sheets, sewing, said
    lattice, panes = shared
    sewing = sewing._replace(feather=native_feather(sewing.feather, lattice, target.frame))
    placed = [sheet._replace(footprint=pane) for sheet, pane in zip(sheets, panes, strict=True)]
    return lattice, placed, sewing, fact("sheets_joined_first", sheets=len(sheets))


def as_quilt(
    layers: Sequence[tuple[Layer, Pane]], target: Target, bands: tuple[Band, ...],
    output: Output, method: str, sewing: Sewing,
) -> Receipt:  # fmt: skip
    """Write the quilt of `layers`, each with the cells of the frame it may reach."""
    out, sheets, methods = output.path, [], list[Fact]()
    moved = [layer.raster.frame.offset_to(target.frame) is None for layer, _ in layers]
    for (layer, footprint), apart in zip(layers, moved, strict=True):
        if layer.elsewhere is not None:
            raise InputError(
                f"{layer.path} lies in an archive or on the web",
                "a quilt names plain files",
                "unpack it first",
            )
        chosen = str(choose_method(method, layer.raster, target.frame, False)[0]) if apart else "nearest"
        methods.append(fact("quilt_method", method=chosen) if apart else fact("native_cells"))
        sheets.append(QuiltSheet(layer.path, footprint, chosen))
    lattice = None
    if len(layers) > 1 and all(moved) and sewing.overlap not in APART:
        frames = [layer.raster.frame for layer, _ in layers]
        lattice, sheets, sewing, said = _joined_first(frames, sheets, sewing, target)
        methods.append(said)
    check_free(out, output.replace)
    text = write_quilt(out, target.frame, bands, sheets, sewing, lattice)
    if not output.dry_run:
        with Staging(output.replace) as staging:
            staging.write_text(out, text)
            staging.publish()
    result = Result(out, len(text.encode()), format="quilt", frame=target.frame, how=("no cell read",))
    return Receipt(
        "mosaic",
        tuple(Path(layer.path) for layer, _ in layers),
        output.out,
        planned=output.dry_run,
        frame=target.frame,
        chose=distinct((*target.chose, *methods, fact("overlap", rule=sewing.overlap))),
        results=(replace(result, count=len(sheets), what="sheets"),),
    )
