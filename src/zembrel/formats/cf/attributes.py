"""Attributes of data variables: nodata, unit, scale and legend (CF 1.11, 2.5.1, 3.1, 3.5 and 8.1)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np

from zembrel.raster.legend import Legend, LegendEntry, colour_told, hex_of, shade
from zembrel.raster.model import TYPES, Band

Attributes = Mapping[str, Any]


def band_attributes(band: Band, mapping: str | None) -> dict[str, Any]:
    """The attributes of the variable of `band`; `mapping` is the name of its grid mapping variable."""
    found: dict[str, Any] = {"long_name": band.name}
    if not band.categorical:
        found["units"] = band.unit or "1"
    if mapping:
        found["grid_mapping"] = mapping
    if band.nodata is not None:
        found["_FillValue"] = band.dtype.type(band.nodata)
    elif band.dtype.kind == "f":
        found["_FillValue"] = band.dtype.type(np.nan)
    if (band.scale, band.offset) != (1.0, 0.0):
        found |= {"scale_factor": band.scale, "add_offset": band.offset}
    if band.legend is not None and band.legend.entries:
        entries = band.legend.entries
        found["flag_values"] = np.array([entry.code for entry in entries], band.dtype)
        found["flag_meanings"] = " ".join(_word(entry) for entry in entries)
        found["zembrel_flag_names"] = "\n".join(entry.name for entry in entries)
        found["flag_colors"] = " ".join(hex_of(entry.colour) for entry in entries)
    if band.colour:
        found["zembrel_colour"] = band.colour
    return found


def _word(entry: LegendEntry) -> str:
    """The name of a class as one word of letters, digits and underscores."""
    return re.sub(r"\W+", "_", entry.name, flags=re.ASCII).strip("_") or f"class_{entry.code}"


def band_of(name: str, dtype: np.dtype[Any], attributes: Attributes) -> Band | None:
    """The band that a variable is; None for a type that is none of ours."""
    kind = dtype.newbyteorder("=").name
    kind = {"bool": "uint8", "float16": "float32"}.get(kind, kind)  # types of ours that hold these exactly
    if kind not in TYPES:
        return None
    if str(attributes.get("_Unsigned", "")).lower() == "true" and dtype.kind == "i":
        kind = f"u{kind}"
    nodata = _number(attributes, "_FillValue", kind)
    if nodata is None:
        nodata = _number(attributes, "missing_value", kind)
    unit = str(attributes.get("units", ""))
    scale, offset = (
        _float(attributes.get(key), default) for key, default in (("scale_factor", 1.0), ("add_offset", 0.0))
    )
    return Band(
        name,
        kind,
        nodata,
        "" if unit == "1" else unit,
        str(attributes.get("zembrel_colour", "")),
        _legend(attributes),
        scale,
        offset,
    )


def valid_limits(attributes: Attributes) -> tuple[float, float] | None:
    """The smallest and largest stored number that is valid (CF 1.11, 2.5.1); None if nobody says."""
    pair = attributes.get("valid_range")
    if pair is not None and np.size(pair) == 2:
        low, high = (float(value) for value in np.ravel(pair))
    else:
        low = _float(attributes.get("valid_min"), -np.inf)
        high = _float(attributes.get("valid_max"), np.inf)
    return None if (low, high) == (-np.inf, np.inf) else (low, high)


def _float(value: Any, default: float) -> float:
    try:
        return float(np.ravel(value)[0]) if value is not None else default
    except (TypeError, ValueError, IndexError):
        return default


def _number(attributes: Attributes, key: str, kind: str) -> float | int | None:
    value = attributes.get(key)
    if value is None:
        return None
    number = _float(value, float("nan"))
    if np.dtype(kind).kind == "f":
        return None if np.isnan(number) else float(np.dtype(kind).type(number))
    limits = np.iinfo(kind)
    whole = int(np.ravel(value)[0]) if number == number else None
    if whole is not None and whole < 0 and limits.min == 0:
        whole += limits.max + 1
    return whole if whole is not None and limits.min <= whole <= limits.max else None


def _legend(attributes: Attributes) -> Legend | None:
    codes = attributes.get("flag_values")
    if codes is None:
        return None
    codes = [int(code) for code in np.ravel(codes)]
    words = str(attributes.get("flag_meanings", "")).split()
    names = str(attributes.get("zembrel_flag_names", "")).split("\n")
    names = names if len(names) == len(codes) else [word.replace("_", " ") for word in words]
    colours = [
        colour_told(word) for word in re.split(r"[\s,]+", str(attributes.get("flag_colors", "")).strip())
    ]
    entries = []
    for n, code in enumerate(codes):
        colour = colours[n] if n < len(colours) else None
        entries.append(LegendEntry(code, names[n] if n < len(names) else "", colour or shade(n)))
    return Legend.of(entries)
