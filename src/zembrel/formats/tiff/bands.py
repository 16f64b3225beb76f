"""What a TIFF tells of its bands: names, colours, nodata, palette, units and scales."""

from __future__ import annotations

from dataclasses import replace
from xml.etree import ElementTree

import numpy as np

from zembrel.formats.tiff import tags
from zembrel.formats.tiff.colours import Model
from zembrel.formats.tiff.description import read_description
from zembrel.formats.tiff.directory import Directory
from zembrel.formats.tiff.layout import SegmentLayout
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import ALPHA, Band

_ALPHA = (1, 2)  # values of ExtraSamples: associated, unassociated
_RGB = ("red", "green", "blue")
_BLACK_AND_WHITE = Legend.of([LegendEntry(0, "", (0, 0, 0)), LegendEntry(1, "", (255, 255, 255))])
_MOST_XML = 1_000_000  # characters


def read_bands(
    directory: Directory, layout: SegmentLayout, model: Model | None
) -> tuple[tuple[Band, ...], int | None]:
    """All samples as bands (those of a colour model as red, green and blue), and which sample is alpha."""
    extra = directory.values(tags.EXTRA_SAMPLES).tolist()
    first_extra = layout.samples - len(extra)
    alpha = next(
        (first_extra + n for n, kind in enumerate(extra) if kind in _ALPHA and first_extra + n > 0), None
    )
    coloured = model is not None or (layout.coding.shown == tags.RGB and layout.samples >= 3)
    if not extra and coloured and model is None and layout.samples == 4:
        alpha = 3  # writers that leave ExtraSamples out mean this
    names = _RGB if coloured else ()
    count = layout.samples - (model.samples - 3 if model is not None else 0)
    nodata = _nodata(directory, layout) if model is None else None
    palette = layout.coding.photometric == tags.PALETTE
    legend = (
        _palette(directory) if palette else _BLACK_AND_WHITE if layout.coding.bits == 1 == count else None
    )
    bands = tuple(
        Band(
            names[n] if n < len(names) else f"band{n + 1}",
            layout.dtype.name,
            nodata,
            colour=names[n] if n < len(names) else "",
            legend=legend if n == 0 else None,
        )
        for n in range(count)
    )
    bands = _with_items(directory.text(tags.BAND_FACTS), bands)
    bands = read_description(directory.text(tags.IMAGE_DESCRIPTION), bands)
    if alpha is not None:  # bands are counted after conversion
        at = alpha - (model.samples - 3 if model is not None else 0)
        opacity = Band(ALPHA, layout.dtype.name, colour=ALPHA)
        bands = (*bands[:at], opacity, *bands[at + 1 :])
    return bands, alpha


def _nodata(directory: Directory, layout: SegmentLayout) -> float | int | None:
    text = directory.text(tags.NODATA).strip()
    try:
        value = float(text)
    except ValueError:
        return None
    if layout.dtype.kind == "f":
        return float(layout.dtype.type(value))
    if not value.is_integer():
        return None
    number, limits = int(text) if text.lstrip("+-").isdigit() else int(value), np.iinfo(layout.dtype)
    return number if limits.min <= number <= limits.max else None


def _palette(directory: Directory) -> Legend | None:
    values = directory.values(tags.COLOUR_MAP)
    if len(values) == 0 or len(values) % 3:
        return None
    shift = 8 if values.max(initial=0) > 255 else 0
    return Legend.of_table(values.reshape(3, -1).T >> shift)


def _with_items(text: str, bands: tuple[Band, ...]) -> tuple[Band, ...]:
    """`bands` with names, units, scales and offsets of the item elements of an XML text.

    Each tells by `sample` which band it is about and by `role` (or `name`) what it says. A text that is
    no such XML changes nothing.
    """
    if not 0 < len(text) < _MOST_XML or "<!" in text:
        return bands
    try:
        root = ElementTree.fromstring(text)
    except ElementTree.ParseError:
        return bands
    told = list(bands)
    for item in root.iter():
        if item.tag.rpartition("}")[2].lower() != "item" or not item.get("sample", "").isdigit():
            continue
        number = int(item.get("sample", "0"))
        if number < len(told):
            role = (item.get("role") or item.get("name") or "").lower()
            told[number] = _told(told[number], role, (item.text or "").strip())
    return tuple(told)


def _told(band: Band, role: str, value: str) -> Band:
    if role == "description" and value:
        return replace(band, name=value)
    if role == "unittype":
        return replace(band, unit=value)
    if role in ("scale", "offset"):
        try:
            number = float(value)
        except ValueError:
            return band
        if role == "scale" and np.isfinite(number) and number != 0:
            return replace(band, scale=number)
        if role == "offset" and np.isfinite(number):
            return replace(band, offset=number)
    return band
