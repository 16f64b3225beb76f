"""The feature table: geometries, their attributes and their CRS."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.geodesy.crs import CRS, same
from zembrel.geodesy.operation import operation

_PIECES = 256  # an outline is cut into at least so many pieces before it goes into another CRS


@dataclass(frozen=True)
class FeatureTable:
    """Features in file order: Shapely geometries and one mapping of attributes for each."""

    geometries: tuple[shapely.Geometry, ...]
    attributes: tuple[Mapping[str, Any], ...]
    crs: CRS

    def where(self, condition: str) -> FeatureTable:
        """The features that meet `condition`, such as `kind = 'wood' and height > 3`.

        Raises UsageError for a condition that cannot be read or a field that is not there.
        """
        tests = [self._test(part) for part in re.split(r"\s+and\s+", condition.strip(), flags=re.IGNORECASE)]
        kept = [n for n, row in enumerate(self.attributes) if all(test(row) for test in tests)]
        if not kept:
            raise InputError(
                f"no feature meets {condition!r}",
                f"all {len(self.attributes)} were looked at",
                "check the values",
            )
        return FeatureTable(
            tuple(self.geometries[n] for n in kept), tuple(self.attributes[n] for n in kept), self.crs
        )

    def _test(self, text: str) -> Callable[[Mapping[str, Any]], bool]:
        found = re.fullmatch(r"\s*(\w+)\s*(!=|<=|>=|=|<|>)\s*(.+?)\s*", text)
        if not found:
            raise UsageError(
                f"{text!r} is not a condition", "FIELD = VALUE is needed", "write for example kind = 'wood'"
            )
        field, sign, value = found[1], found[2], _literal(found[3])
        fields = {name for row in self.attributes for name in row}
        if field not in fields:
            raise UsageError(
                f"no feature has a field {field!r}", "the condition names it", nearest_name(field, fields)
            )
        return lambda row: _holds(row.get(field), sign, value)

    def to(self, crs: CRS) -> FeatureTable:
        """The same features in another CRS, their edges followed closely. Raises InputError."""
        if same(self.crs, crs):
            return self
        carry = operation(self.crs, crs)

        def carried(points: np.ndarray) -> np.ndarray:
            x, y = carry(points[:, 0], points[:, 1])
            if not np.isfinite([x, y]).all():
                raise InputError(
                    "a feature reaches where the target CRS has no coordinates",
                    "its outline would be torn",
                    "choose a CRS for that part of the Earth",
                )
            return np.column_stack([x, y])

        dense = [shapely.segmentize(g, max(_diagonal(g) / _PIECES, 1e-12)) for g in self.geometries]
        return FeatureTable(tuple(shapely.transform(g, carried) for g in dense), self.attributes, crs)

    def polygon(self, first: int = 1) -> shapely.Geometry:
        """All polygons as one. Raises InputError for none, or for a faulty one, saying what and where.

        first: the number of the first feature, for that word.
        """
        polygons = []
        for number, geometry in enumerate(self.geometries, first):
            if geometry.geom_type not in ("Polygon", "MultiPolygon"):
                continue
            if not geometry.is_valid:
                raise InputError(
                    f"feature {number} is not a proper polygon",
                    shapely.is_valid_reason(geometry).lower().replace("[", " at ").replace("]", ""),
                    "mend it where it was drawn, or leave it out with --within-where",
                )
            polygons.append(geometry)
        if not polygons:
            raise InputError("the features hold no polygon", "an area to keep has an inside", "give polygons")
        return shapely.union_all(polygons)


def _diagonal(geometry: shapely.Geometry) -> float:
    west, south, east, north = geometry.bounds
    return float(np.hypot(east - west, north - south))


def _literal(text: str) -> Any:
    if len(text) > 1 and text[0] == text[-1] and text[0] in "'\"":
        return text[1:-1]
    try:
        return float(text)
    except ValueError:
        return text


def _holds(value: Any, sign: str, wanted: Any) -> bool:
    if isinstance(wanted, float):
        if not isinstance(value, int | float):
            return sign == "!="
    else:
        value = str(value)
    signs = {
        "=": value == wanted, "!=": value != wanted,
        "<": value < wanted, ">": value > wanted, "<=": value <= wanted, ">=": value >= wanted,
    }  # fmt: skip
    return bool(signs[sign])
