"""What is written is read again: any value that a table holds, in every format, or a word that it could not be."""

from __future__ import annotations

import math
import tempfile
from pathlib import Path
from typing import Any

import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from depth import examples
from zembrel.errors import RefusedError
from zembrel.features.files import read_features, write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

FORMATS = ("geojson", "geojsonl", "gpkg", "shp", "kml", "kmz", "csv", "parquet")
WORDS = st.one_of(
    st.text(max_size=40), st.sampled_from(["nan", "1", "true", " a ", "a\r\nb", "\x00\x1f", "\ufffe", "x" * 200_000, '"', ",;"])
)  # fmt: skip
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "word": st.one_of(st.none(), WORDS),
            "whole": st.integers(-(2**53), 2**53),
            "real": st.floats(allow_nan=False, allow_infinity=False, width=32),
            "flag": st.booleans(),
        }
    ),
    min_size=2,
    max_size=5,
)


def same(wrote: Any, read: Any) -> bool:
    """Whether a value came back; a text without a letter is none in tables of text."""
    if wrote in (None, ""):
        return read in (None, "") or (isinstance(read, float) and math.isnan(read))
    if isinstance(wrote, str):
        return str(read) == wrote
    return bool(read == wrote)


@pytest.mark.parametrize("ending", FORMATS)
@settings(max_examples=examples(25), deadline=None, suppress_health_check=list(HealthCheck))
@given(rows=ROWS)
def test_values_come_back_or_are_told(ending: str, rows: list[dict[str, Any]]) -> None:
    shapes = [shapely.Point(n, n) for n in range(len(rows))]
    rows = [{**row, "word": "first" if n == 0 else row["word"]} for n, row in enumerate(rows)]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"a.{ending}"
        try:
            notes = write_features(path, FeatureTable.of(shapes, rows, by_code(4326)), "a")
        except RefusedError as exc:
            assert ending == "shp" and "cannot hold" in exc.what
            return
        found = list(read_features(path).rows())
    for wrote, read in zip(rows, found, strict=True):
        for name, value in wrote.items():
            assert same(value, read[name]) or name in {dict(note.values).get("field") for note in notes}, (
                name,
                value,
                read[name],
            )
