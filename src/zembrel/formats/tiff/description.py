"""What TIFF has no tags for (names, units, scaling, classes of bands), as JSON in its description."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from typing import Any

from zembrel.nested import json_of
from zembrel.provenance import steps_in
from zembrel.raster.legend import BLACK, Legend, LegendEntry, colour_told, hex_of
from zembrel.raster.model import Band

_WHOLE = re.compile(r"-?\d{1,10}")
_MARK = "zembrel"  # a description without this key is somebody else's


def write_description(bands: tuple[Band, ...], provenance: str | None = None) -> str:
    """ASCII text for the image description. provenance: the steps behind the file, as JSON."""
    told = {"steps": steps_in(provenance)} if provenance is not None else {}
    palette = len(bands) == 1 and bands[0].type == "uint8"
    return json.dumps({_MARK: 1, "bands": [_facts(band, palette) for band in bands]} | told)


def read_description(text: str, bands: tuple[Band, ...]) -> tuple[Band, ...]:
    """`bands` with what the description adds; any other text changes nothing."""
    try:
        found = json_of(text) if text.lstrip().startswith("{") else {}
    except ValueError:
        return bands
    if not isinstance(found, dict) or found.get(_MARK) != 1 or not isinstance(found.get("bands"), list):
        return bands
    described = found["bands"] + [{}] * len(bands)
    return tuple(_told(band, facts) for band, facts in zip(bands, described, strict=False))


def _facts(band: Band, palette: bool) -> dict[str, Any]:
    """What is told of a band. palette: whether tags hold the colours of its classes."""
    facts: dict[str, Any] = {"name": band.name}
    if band.unit:
        facts["unit"] = band.unit
    if band.scale != 1.0 or band.offset != 0.0:
        facts |= {"scale": band.scale, "offset": band.offset}
    legend = band.legend
    if legend is not None and not (palette and legend.told_by_palette):
        facts["classes"] = {str(entry.code): entry.name for entry in legend.entries}
        if not palette:
            facts["colours"] = {str(entry.code): hex_of(entry.colour) for entry in legend.entries}
    return facts


def _told(band: Band, facts: Any) -> Band:
    if not isinstance(facts, dict):
        return band
    scale, offset = facts.get("scale", band.scale), facts.get("offset", band.offset)
    if not isinstance(scale, int | float) or not isinstance(offset, int | float):
        scale, offset = band.scale, band.offset
    name, unit = str(facts.get("name", band.name)), str(facts.get("unit", band.unit))
    return replace(
        band, name=name, unit=unit, legend=_legend(band, facts), scale=float(scale), offset=float(offset)
    )


def _legend(band: Band, facts: dict[str, Any]) -> Legend | None:
    """The classes that are told, in the colours that are told or those of the palette."""
    names, told = facts.get("classes"), facts.get("colours")
    if not isinstance(names, dict):
        return band.legend
    colours = {str(entry.code): entry.colour for entry in band.legend.entries} if band.legend else {}
    if isinstance(told, dict):
        colours |= {code: colour for code, text in told.items() if (colour := colour_told(text)) is not None}
    codes = [code for code in names if _WHOLE.fullmatch(code)]
    return Legend.of(LegendEntry(int(code), str(names[code]), colours.get(code, BLACK)) for code in codes)
