"""Values mean what scale and offset say, whatever the format; stored numbers are written when asked for."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest

from program import Program
from rasters import raster, save
from zembrel.features.files import read_features
from zembrel.formats import open_raster

STORED = np.arange(-300, 300, 5, dtype=np.int16).reshape(10, 12)
SCALE, OFFSET = 0.25, 100.0
REAL = STORED * SCALE + OFFSET


def text(path: Path, skip: int, columns: Any = None, separator: str | None = None) -> np.ndarray:
    return np.loadtxt(path, skiprows=skip, usecols=columns, delimiter=separator)


# how another reader gets at the cells of each format
READERS: dict[str, Any] = {
    "asc": lambda path: text(path, 6),
    "xyz": lambda path: text(path, 0, 2),
    "csv": lambda path: text(path, 1, 2, ","),
    "matrix.csv": lambda path: text(path, 0, None, ","),
    "npy": lambda path: np.load(path),
    "npz": lambda path: next(iter(np.load(path).values())),
    "parquet": lambda path: pq.read_table(path).columns[2].to_numpy(),
    "flt": lambda path: np.fromfile(path, "<f4"),
    "bil": lambda path: np.fromfile(path, "<f4"),
    "r32": lambda path: np.fromfile(path, "<f4"),
}
SHORT = {"flt", "r32"}  # of float32 alone


@pytest.fixture
def scaled(zembrel: Program) -> Program:
    save(zembrel.folder / "s.tif", raster(STORED, scale=SCALE, offset=OFFSET))
    return zembrel


@pytest.mark.parametrize("ending", READERS)
def test_a_format_that_keeps_no_scale_gets_values(scaled: Program, ending: str) -> None:
    said = scaled("convert", "s.tif", "--out", f"v.{ending}").err
    assert "values of scale 0.25 and offset 100" in said
    np.testing.assert_array_equal(np.ravel(READERS[ending](scaled.folder / f"v.{ending}")), REAL.ravel())


@pytest.mark.parametrize("ending", sorted(set(READERS) - SHORT))
def test_stored_numbers_are_there_for_the_asking(scaled: Program, ending: str) -> None:
    said = scaled("convert", "s.tif", "--stored", "--out", f"n.{ending}").err
    assert "stored numbers, without scale 0.25" in said
    found = READERS[ending](scaled.folder / f"n.{ending}") if ending != "bil" else np.fromfile(
        scaled.folder / "n.bil", "<i2"
    )  # fmt: skip
    np.testing.assert_array_equal(np.ravel(found), STORED.ravel())


@pytest.mark.parametrize("ending", ["tif", "nc", "zarr", "quilt.toml"])
def test_a_format_that_keeps_a_scale_keeps_it(scaled: Program, ending: str) -> None:
    scaled("mosaic", "s.tif", "--out", f"k.{ending}")
    (band,) = open_raster(scaled.folder / f"k.{ending}").bands
    assert (band.type, band.scale, band.offset) == ("int16", SCALE, OFFSET)


@pytest.mark.parametrize("ending", ["png", "jp2", "hgt"])
def test_a_format_of_whole_numbers_refuses_values(scaled: Program, ending: str) -> None:
    scaled.refuses(4, "convert", "s.tif", "--out", f"N46W024.{ending}")


def test_values_in_every_verb(scaled: Program) -> None:
    at = scaled("describe", "s.tif", "--at", "730005,5099995", "--stats", "--json").json["layers"][0]
    assert at["at"]["values"] == [REAL[0, 0]]
    assert at["bands"][0]["statistics"]["mean"] == REAL.mean()
    scaled("polygonize", "s.tif", "--out", "p.gpkg")
    assert sorted(read_features(scaled.folder / "p.gpkg").columns["value"].tolist()) == sorted(
        REAL.ravel().tolist()
    )
    scaled("mask", "s.tif", "--where", "value < 100", "--out", "m.tif")
    block = open_raster(scaled.folder / "m.tif")
    np.testing.assert_array_equal(block.cells(block.frame.pane).valid_of(0), REAL >= 100)
