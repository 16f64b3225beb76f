"""A mosaic as a quilt: what would be joined is noted, and nothing is computed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zembrel.engine.commit import Staging, check_free
from zembrel.errors import InputError, RefusedError
from zembrel.formats.elsewhere import known
from zembrel.formats.quilt import Sewing, Sheet, write_quilt
from zembrel.grid.pane import Pane
from zembrel.measure import show_bytes
from zembrel.raster.model import Band
from zembrel.verbs.inputs import Layer
from zembrel.verbs.methods import choose_method
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import Receipt, frame_facts, frame_items, named
from zembrel.verbs.target import Target


def refuse_changes(changed: Sequence[str]) -> None:
    """Raise RefusedError for options that would change cells."""
    if changed:
        raise RefusedError(
            f"a quilt cannot hold the work of {', '.join(changed)}",
            "it names sheets as they are",
            "leave it out, or write the mosaic to a GeoTIFF",
        )


def as_quilt(
    layers: Sequence[tuple[Layer, Pane]], target: Target, bands: tuple[Band, ...],
    output: Output, method: str, sewing: Sewing,
) -> Receipt:  # fmt: skip
    """Write the quilt of `layers`, each with the cells of the frame it may reach."""
    out, sheets, methods = output.path, [], []
    for layer, footprint in layers:
        if known(layer.path):
            raise InputError(
                f"{layer.path} lies in an archive or on the web",
                "a quilt names plain files",
                "unpack it first",
            )
        on_lattice = layer.raster.frame.offset_to(target.frame) is not None
        chosen = "nearest" if on_lattice else str(choose_method(method, layer.raster, target.frame, False)[0])
        methods.append("native cells" if on_lattice else f"method {chosen}")
        sheets.append(Sheet(layer.path, footprint, chosen))
    check_free(out, output.replace)
    text = write_quilt(out, target.frame, bands, sheets, sewing)
    if not output.dry_run:
        with Staging(output.replace) as staging:
            staging.write_text(out, text)
            staging.publish()
    chose = (*target.chose, *dict.fromkeys(methods), f"overlap {sewing.overlap}")
    wrote = (str(out), f"{len(sheets):,} sheets", show_bytes(len(text.encode())), "no cell read")
    paths = [Path(layer.path) for layer, _ in layers]
    lines = (
        ("frame", frame_items(target.frame)),
        ("chose", chose),
        ("plan" if output.dry_run else "wrote", wrote),
    )
    facts = {
        "inputs": [str(path) for path in paths],
        "chose": list(chose),
        "results": [{"out": str(out), "format": "quilt", "frame": frame_facts(target.frame)}],
    }
    return Receipt("mosaic", f"{named(paths)} -> {output.out}", lines, facts)
