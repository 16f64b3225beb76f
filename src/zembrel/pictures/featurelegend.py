"""The classes that features tell in fields of codes, names and colours, as polygonize writes them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zembrel.errors import RefusedError
from zembrel.features.table import FeatureTable
from zembrel.raster.legend import Legend, LegendEntry, colour_told, shade

CODES, NAMES, COLOURS = "value", "name", "colour"  # fields of polygonize
_MOST = 255  # classes of words


def legend_of_codes(table: FeatureTable, codes: Sequence[float]) -> Legend | None:
    """The legend of whole numbers, of features that tell the colours of their classes, and perhaps names."""
    colours = _told(table, COLOURS)
    names = _told(table, NAMES)
    if colours is None or not all(code.is_integer() for code in codes):
        return None
    told: dict[int, set[tuple[str, Any]]] = {}
    for n, code in enumerate(codes):
        told.setdefault(int(code), set()).add(("" if names is None else str(names[n] or ""), colours[n]))
    if any(len(ways) > 1 for ways in told.values()):
        return None
    entries = [(code, *ways.pop()) for code, ways in told.items()]
    parsed = [
        LegendEntry(code, name, colour) for code, name, text in entries if (colour := colour_told(text))
    ]
    return Legend.of(parsed) if len(parsed) == len(entries) else None


def codes_of_words(table: FeatureTable, field: str, words: Sequence[str]) -> tuple[list[float], Legend]:
    """Codes of words: those of the field of codes if it has one for each word, else 1, 2, 3 ...

    Raises RefusedError for more than 255 words.
    """
    own = _codes_beside(table, field, words)
    names = sorted(set(words))
    if len(names) > _MOST:
        raise RefusedError(
            f"{field} has {len(names):,} different words", f"a legend has {_MOST} classes", "use a number"
        )
    codes = own or {name: n for n, name in enumerate(names, 1)}
    values = [float(codes[word]) for word in words]
    legend = legend_of_codes(table, values) if field == NAMES else None
    shades = Legend.of(LegendEntry(code, name, shade(n)) for n, (name, code) in enumerate(codes.items(), 1))
    return values, legend or shades


def _codes_beside(table: FeatureTable, field: str, words: Sequence[str]) -> dict[str, int] | None:
    """The code of each word, where the features tell one code for each."""
    if field == CODES or CODES not in table.columns:
        return None
    numbers = table.columns[CODES]
    if getattr(numbers, "dtype", None) is None or numbers.dtype.kind not in "iuf":
        return None
    pairs = {(word, float(code)) for word, code in zip(words, numbers.tolist(), strict=True)}
    codes = {word: int(code) for word, code in pairs if code.is_integer()}
    return codes if len(codes) == len(pairs) == len(set(codes.values())) else None


def _told(table: FeatureTable, field: str) -> list[Any] | None:
    return table.named(field).tolist() if field in table.columns else None
