"""The tables of indices and of the bands they need, and finding these bands in a layer."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.errors import InputError, UsageError
from zembrel.expression.formula import Formula, parse_formula
from zembrel.nested import toml_of
from zembrel.raster.model import Band
from zembrel.tomlfile import check_keys, read_toml

_KEYS: Mapping[str, type] = {"title": str, "formula": str, "source": str, "reflectance": bool}
_NANOMETRES = {"nm": 1.0, "um": 1000.0, "µm": 1000.0, "micrometers": 1000.0, "nanometers": 1.0}
_WAVELENGTH = re.compile(r"(\d+(?:\.\d+)?)\s*(nm|um|µm|micrometers|nanometers)\b", re.IGNORECASE)


class SpectralIndex(NamedTuple):
    """An index: its name, what it stands for, its formula over roles of bands, and where it was published.

    reflectance: whether its constants mean reflectances of 0 to 1.
    """

    name: str
    title: str
    formula: Formula
    source: str
    reflectance: bool = False


class Role(NamedTuple):
    """A part that bands play: names they have, and wavelengths (nm) between which their middle lies."""

    names: tuple[str, ...]
    wavelengths: tuple[float, float]


def indices(own: Sequence[Path] = ()) -> dict[str, SpectralIndex]:
    """All indices by name; those of files `own` overrule others. Raises InputError for faulty files."""
    held = {
        name: _index(Path("indices.toml"), name, facts) for name, facts in _packed("indices.toml").items()
    }
    for path in own:
        for name, facts in read_toml(path, "table of indices").items():
            if not isinstance(facts, dict):
                raise InputError(
                    f"{path}: {name} is no index", "each has a table of its own", f"write [{name}]"
                )
            held[name.lower()] = _index(path, name.lower(), facts)
    return held


def _index(path: Path, name: str, facts: Mapping[str, Any]) -> SpectralIndex:
    check_keys(path, facts, _KEYS, required=("formula",))
    try:
        formula = parse_formula(facts["formula"])
    except UsageError as exc:
        raise InputError(f"{path}: {name}: {exc.what}", exc.why, exc.remedy) from exc
    return SpectralIndex(
        name, facts.get("title", ""), formula, facts.get("source", ""), facts.get("reflectance", False)
    )


@cache
def _packed(name: str) -> dict[str, Any]:
    return toml_of((files(__package__) / name).read_text("utf-8"))


@cache
def roles() -> dict[str, Role]:
    """The parts that bands play in indices, by name."""
    return {
        name: Role(tuple(held["names"]), tuple(held["wavelengths"]))
        for name, held in _packed("roles.toml").items()
    }


def band_of(role: str, bands: Sequence[Band]) -> int | None:
    """Which band plays a role: by its name or colour, else by the wavelength that it tells."""
    known = roles().get(role)
    names = (role, *(known.names if known else ()))
    for number, band in enumerate(bands):
        if role == band.colour or _plain(band.name) in names:
            return number
    if known is None:
        return None
    low, high = known.wavelengths
    found = [(abs(length - (low + high) / 2), number) for number, band in enumerate(bands)
             if (length := wavelength(band)) is not None and low <= length <= high]  # fmt: skip
    return min(found)[1] if found else None


def wavelength(band: Band) -> float | None:
    """The middle of a band in nanometres, if its name or its place in a variable tells."""
    told = _WAVELENGTH.search(band.name)
    if told:
        return float(told[1]) * _NANOMETRES[told[2].lower()]
    for place in band.slot.places if band.slot else ():
        unit = dict(place.dimension.attributes or ()).get("units", "")
        if str(unit).lower() in _NANOMETRES and isinstance(place.value, int | float):
            return float(place.value) * _NANOMETRES[str(unit).lower()]
    return None


def _plain(name: str) -> str:
    return re.sub(r"\W+", "_", name.strip().lower())
