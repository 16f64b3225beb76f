"""Pages for a browser: one file each, without anything from elsewhere."""

from __future__ import annotations

import base64
import html
import io
import json
from collections.abc import Sequence
from importlib.resources import files
from string import Template
from typing import Any

import numpy as np
from PIL import Image

from zembrel.draw.colouring import ColouredCells, ColourKey
from zembrel.draw.ramps import colour_map
from zembrel.grid.extent import ground
from zembrel.measure import show_number

Facts = Sequence[tuple[str, str]]


def comparison_page(
    names: tuple[str, str],
    layers: tuple[ColouredCells, ColouredCells, ColouredCells],
    facts: Facts,
    place: str,
    sign: str,
) -> str:
    """The page on which two layers are swiped, flickered and subtracted."""
    one, two, apart = layers
    west, south, east, north = one.frame.bounds
    per_x, per_y = ground(one.frame)
    keys = [_key(made.key, title) for made, title in ((one, names[0]), (apart, "difference")) if made.key]
    return Template((files(__package__) / "comparepage.html").read_text("utf-8")).substitute(
        title=html.escape(f"{names[0]} and {names[1]}"),
        place=html.escape(place),
        ratio=f"{(east - west) * per_x:.6g} / {(north - south) * per_y:.6g}",
        rendering="pixelated" if max(one.image.shape) < 600 else "auto",
        one=html.escape(names[0]),
        two=html.escape(names[1]),
        one_image=as_address(one.image),
        two_image=as_address(two.image),
        apart_image=as_address(apart.image),
        facts=rows(facts),
        keys="".join(keys),
        sign=script_text(sign),
    )


def script_text(text: str) -> str:
    """Return a text as a string of JavaScript that can stand in a script of a page."""
    return json.dumps(text).replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def rows(facts: Facts) -> str:
    """Lines of a table."""
    cells = (f"<tr><th>{html.escape(name)}</th><td>{html.escape(text)}</td></tr>" for name, text in facts)
    return "".join(cells)


def as_address(image: Any) -> str:
    """A picture as an address that holds it."""
    held = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(image)).save(held, "PNG", optimize=True)
    return "data:image/png;base64," + base64.b64encode(held.getvalue()).decode("ascii")


def _key(key: ColourKey, title: str) -> str:
    """What the colours of a layer mean."""
    band = key.band
    if not key.ramp:
        assert band.legend is not None
        named = [entry for entry in band.legend.entries if entry.name]
        entries = "".join(
            f"<tr><td><i style='background:rgb{entry.colour}'></i></td>"
            f"<td>{html.escape(f'{entry.code}  {entry.name}')}</td></tr>"
            for entry in named
        )
        return f"<figure><table>{entries}</table><figcaption>{html.escape(title)}</figcaption></figure>"
    colours = np.asarray(colour_map(key.ramp)(np.linspace(0, 1, 256)))
    strip = np.floor(colours[None] * 255 + 0.5).astype(np.uint8).repeat(14, axis=0)
    low, high = (show_number(float(f"{value:.4g}")) for value in key.limits)
    unit = f" {band.unit}" if band.unit else ""
    text = html.escape(f"{title}: {low} to {high}{unit}")
    return f"<figure><img alt='' src='{as_address(strip)}'><figcaption>{text}</figcaption></figure>"
