"""Writing CSV of features: a line for each, points by their x and y, anything else as well-known text."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import shapely

from zembrel.facts import Fact
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import GeographicCRS
from zembrel.geodesy.text import write_crs

TEXTS = ("wkt", "geometry", "geom", "the_geom", "shape")  # names of a column of geometries


class CommaWriter:
    """A line for each feature."""

    def __init__(self, path: Path, schema: Schema) -> None:
        self._path, self._schema = path, schema
        degrees = isinstance(schema.crs, GeographicCRS)
        pair = ["lon", "lat"] if degrees else ["x", "y"]
        taken = {name.lower() for name in schema.fields}
        self._plain = schema.kind == "Point" and not schema.heights and not taken & {*TEXTS, *pair}
        self._file = path.open("w", encoding="utf-8", newline="")
        tabs = path.suffix.lower() == ".tsv"
        form: dict[str, Any] = {"delimiter": "\t" if tabs else ",", "lineterminator": "\n"}
        self._writer = csv.writer(self._file, **form)
        self._quoter = csv.writer(
            self._file, **form, quoting=csv.QUOTE_ALL
        )  # of what the other does not quote
        self._put([*(pair if self._plain else ["wkt"]), *schema.fields])

    def _put(self, row: list[Any]) -> None:
        odd = any(isinstance(value, str) and "\r" in value for value in row)
        (self._quoter if odd else self._writer).writerow(row)

    def add(self, table: FeatureTable) -> None:
        if self._plain:
            x, y = shapely.get_x(table.geometries).tolist(), shapely.get_y(table.geometries).tolist()
            places: Any = (["", ""] if a != a else [repr(a), repr(b)] for a, b in zip(x, y, strict=True))
        else:
            texts = shapely.to_wkt(table.geometries, rounding_precision=-1).tolist()
            places = ([text or ""] for text in texts)
        for place, row in zip(places, table.rows(), strict=True):
            self._put([*place, *("" if value is None else value for value in row.values())])

    def finish(self) -> tuple[Fact, ...]:
        self._file.close()
        if self._schema.crs is not None:
            self._path.with_suffix(".prj").write_text(write_crs(self._schema.crs, "prj"))
        return ()

    def abort(self) -> None:
        self._file.close()
