"""describe --page: one page for a layer, a contact sheet for many."""

from __future__ import annotations

import html
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from PIL import Image

from zembrel.draw.colouring import ColouredCells, Look, painted
from zembrel.draw.layerpage import Card, MiddlePlace, ValueSpread, draw_contact_sheet, draw_layer_page
from zembrel.draw.page import as_address, rows
from zembrel.draw.reduced import reduced
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import UsageError
from zembrel.geodesy.crs import UnresolvedCRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import operation_of
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Output
from zembrel.raster.model import Raster, is_photo
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.endings import BROWSER_PAGES
from zembrel.results.phrases import show_cell
from zembrel.scratch import Scratch

MOST_CARDS = 120
_PIXELS, _SMALL, _BINS = 900, 300, 64
_STYLE = (
    "body{margin:24px;font:15px/1.45 system-ui,'DejaVu Sans',sans-serif;color:#2b2b2b;background:#faf9f7}"
    "h1{font-size:20px;margin:0 0 12px}img{max-width:100%;height:auto}"
    "table{border-collapse:collapse;font-size:14px}td,th{padding:4px 10px 4px 0;font-weight:400;"
    "border-bottom:1px solid #d8d6d0;text-align:left;vertical-align:top}th{color:#6b6b68}"
)


def write_page(
    layers: Sequence[Layer], tables: Sequence[Sequence[tuple[str, str]]], out: Path, output: Output
) -> None:
    """One page for one layer, else a contact sheet. Raises UsageError for too many layers."""
    if len(layers) > MOST_CARDS:
        raise UsageError(
            f"{len(layers)} layers for one sheet", f"{MOST_CARDS} have room", "name some of them"
        )
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            if out.suffix.lower() not in BROWSER_PAGES:
                _draw(layers, tables, staged, output)
            else:
                held = Scratch()
                picture = held.path / "page.png"
                _draw(layers, tables, picture, output)
                staged.write_text(_as_html(layers, tables, picture), "utf-8")
        staging.publish()


def _draw(
    layers: Sequence[Layer], tables: Sequence[Sequence[tuple[str, str]]], path: Path, output: Output
) -> None:
    if len(layers) > 1:
        cards = [_card(layer, output) for layer in layers]
        draw_contact_sheet(cards, f"{len(layers)} layers", path)
        return
    raster = unscaled(layers[0].raster)
    look = Look(title=layers[0].path.stem)
    made = painted(raster, look, output.limits, _PIXELS)
    draw_layer_page(made, list(tables[0])[:12], _spread(raster, output), _place(raster), path, look)


def _card(layer: Layer, output: Output) -> Card:
    raster = unscaled(layer.raster)
    frame = raster.frame
    made: ColouredCells = painted(raster, Look(), output.limits, _SMALL)
    code = (
        f"EPSG:{frame.crs.code}"
        if frame.crs is not None and frame.crs.code
        else "no code"
        if frame.crs
        else "no CRS"
    )
    return Card(made, (layer.path.name, f"{code}  {show_cell(frame)}  {frame.columns:,} x {frame.rows:,}"))


def _spread(raster: Raster, output: Output) -> ValueSpread | None:
    """How values are spread in the picture's cells; None where nothing is valid or values are codes."""
    bands = raster.bands
    if bands[0].legend is not None:
        return None
    picked = (0, 1, 2) if is_photo(bands) else (0,)
    small = reduced(select_bands(raster, picked), output.limits, _PIXELS)
    known = np.ones(small.cells.shape[:2], bool) if small.valid is None else small.valid
    values = [small.cells[..., n][known & np.isfinite(small.cells[..., n])] for n in range(len(picked))]
    if not all(held.size for held in values):
        return None
    low, high = min(float(held.min()) for held in values), max(float(held.max()) for held in values)
    edges = np.linspace(low, high if high > low else low + 1, _BINS + 1)
    counts = [np.histogram(held, edges)[0] * (100 / held.size) for held in values]
    unit = f" ({bands[0].unit})" if bands[0].unit else ""
    names = [bands[n].colour or bands[n].name for n in picked]
    return ValueSpread(edges, counts, names, "value" if len(picked) > 1 else f"{bands[0].name}{unit}")


def _place(raster: Raster) -> MiddlePlace | None:
    frame = raster.frame
    if frame.crs is None or isinstance(frame.crs, UnresolvedCRS):
        return None
    x, y = frame.centres(np.array([frame.columns / 2 - 0.5]), np.array([frame.rows / 2 - 0.5]))
    lon, lat = operation_of(frame, by_code(4326))(x, y)
    return MiddlePlace(float(lon[0]), float(lat[0])) if np.isfinite([lon[0], lat[0]]).all() else None


def _as_html(layers: Sequence[Layer], tables: Sequence[Sequence[tuple[str, str]]], picture: Path) -> str:
    """The picture, and every fact below it as text that can be searched."""
    with Image.open(picture) as image:
        address = as_address(np.asarray(image.convert("RGB")))
    title = layers[0].path.name if len(layers) == 1 else f"{len(layers)} layers"
    facts = "".join(
        f"<h2 style='font-size:16px'>{html.escape(layer.path.name)}</h2><table>{rows(table)}</table>"
        for layer, table in zip(layers, tables, strict=True)
    )
    named = html.escape(title)
    return (
        f"<!DOCTYPE html>\n<html lang='en'><head><meta charset='utf-8'><title>{named}</title>"
        f"<style>{_STYLE}</style></head><body><h1>{named}</h1><img alt='{named}' src='{address}'>"
        f"{facts}</body></html>\n"
    )
