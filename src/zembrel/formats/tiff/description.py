"""What TIFF has no tags for (names, units, scaling, classes of bands), as JSON in its description."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

from zembrel.nested import json_of
from zembrel.provenance import steps_in
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band

_MARK = "zembrel"  # a description without this key is somebody else's


def write_description(bands: tuple[Band, ...], provenance: str | None = None) -> str:
    """ASCII text for the image description. provenance: the steps behind the file, as JSON."""
    told = {"steps": steps_in(provenance)} if provenance is not None else {}
    return json.dumps({_MARK: 1, "bands": [_facts(band) for band in bands]} | told)


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


def _facts(band: Band) -> dict[str, Any]:
    facts: dict[str, Any] = {"name": band.name}
    if band.unit:
        facts["unit"] = band.unit
    if band.scale != 1.0 or band.offset != 0.0:
        facts |= {"scale": band.scale, "offset": band.offset}
    if band.legend is not None and band.legend.named:
        facts["classes"] = {str(entry.code): entry.name for entry in band.legend.entries if entry.name}
    return facts


def _told(band: Band, facts: Any) -> Band:
    if not isinstance(facts, dict):
        return band
    legend = band.legend
    names = facts.get("classes")
    if legend is not None and isinstance(names, dict):
        legend = Legend(
            tuple(LegendEntry(code, str(names.get(str(code), "")), c) for code, _, c in legend.entries)
        )
    scale, offset = facts.get("scale", band.scale), facts.get("offset", band.offset)
    if not isinstance(scale, int | float) or not isinstance(offset, int | float):
        scale, offset = band.scale, band.offset
    name, unit = str(facts.get("name", band.name)), str(facts.get("unit", band.unit))
    return replace(band, name=name, unit=unit, legend=legend, scale=float(scale), offset=float(offset))
