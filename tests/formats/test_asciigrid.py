"""ASCII grids: every spelling reads, text comes back to the last bit, what is broken is named with its place."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from program import Program
from rasters import random_cells, raster, save
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.formats import numbertext, open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry

HEAD = "ncols 4\nnrows 3\nxllcorner 730000\nyllcorner 5100000\ncellsize 10\nNODATA_value -9999\n"
BODY = "1 2 3 4\n5 6 7 8\n9 10 -9999 12\n"


def grid(tmp_path: Path, text: str) -> Any:
    (tmp_path / "g.asc").write_text(text)
    return open_raster(tmp_path / "g.asc")


def test_the_plain_case(tmp_path: Path) -> None:
    source = grid(tmp_path, HEAD + BODY)
    assert source.frame == Frame(None, Affine(730_000, 5_100_030, 10, -10), 4, 3)
    block = source.cells(source.frame.pane)
    assert block.cells.dtype == np.int32 and block.cells[0, 1].tolist() == [5, 6, 7, 8]
    assert block.valid_of(0).tolist() == [[True] * 4, [True] * 4, [True, True, False, True]]


@pytest.mark.parametrize(
    "text",
    [
        HEAD.upper() + BODY,
        HEAD.replace("NODATA_value", "nodata") + BODY,
        HEAD.replace(" ", "      \t") + BODY.replace("\n", " "),
        HEAD.replace("\n", "\r\n") + BODY.replace(" ", "\n"),
        HEAD.replace("cellsize 10", "dx 10\ndy 10.0") + "  " + BODY.replace(" ", "   "),
        "\n".join(reversed(HEAD.splitlines())) + "\n" + BODY.rstrip(),
        HEAD.replace("xllcorner 730000", "xllcenter 730005") + BODY,
    ],
)
def test_spellings_and_white_space_do_not_matter(tmp_path: Path, text: str) -> None:
    plain, source = grid(tmp_path, HEAD + BODY), grid(tmp_path, text)
    assert source.frame == plain.frame and source.bands == plain.bands
    block = source.cells(Pane(1, 1, 3, 4))
    assert block.cells[0].tolist() == [[6, 7, 8], [10, -9999, 12]]
    assert block.valid_of(0).tolist() == [[True] * 3, [True, False, True]]


def test_centres_are_values_on_nodes(tmp_path: Path) -> None:
    source = grid(tmp_path, HEAD.replace("llcorner", "llcenter") + BODY)
    assert source.frame.registration == "node"
    assert source.frame.affine == Affine(730_000, 5_100_020, 10, -10)


@pytest.mark.parametrize(
    "body, kind",
    [("1 2 3 4 5 6 7 8 9 10 11 12", "int32"), ("1.5 2 3 4 5 6 7 8 9 10 11 12", "float32"),
     ("1.23456789 2 3 4 5 6 7 8 9 10 11 12", "float64"), ("1e3 2 nan 4 5 6 7 8 9 10 11 12", "float32")],
)  # fmt: skip
def test_the_type_follows_the_digits(tmp_path: Path, body: str, kind: str) -> None:
    source = grid(tmp_path, HEAD + body)
    assert source.bands[0].type == kind
    wanted = np.array([float(word) for word in body.split()]).astype(kind)
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells.ravel(), wanted)


@given(
    st.floats(-1e7, 1e7), st.floats(-1e7, 1e7), st.floats(1e-6, 1e4), st.booleans(),
    st.sampled_from(["cell", "node"]), st.sampled_from(["uint8", "int16", "float32", "float64"]),
)  # fmt: skip
def test_what_is_written_comes_back_to_the_last_bit(
    tmp_path_factory: Any, left: float, top: float, cell: float, oblong: bool, registration: str, kind: str
) -> None:
    where = Frame(by_code(32626), Affine(left, top, cell, -cell * (1.5 if oblong else 1)), 7, 5, registration)
    cells, valid = random_cells(5, 7, kind=kind), random_cells(5, 7, seed=2) > 60
    folder = tmp_path_factory.mktemp("asc")
    cells = np.where(cells == -9999, 8, cells).astype(kind)
    path = save(folder / "a.asc", raster(cells, valid, where=where))
    again = open_raster(path)
    assert again.frame.affine == where.affine and again.frame.registration == registration
    block = again.cells(again.frame.pane)
    np.testing.assert_array_equal(block.valid_of(0), valid)
    np.testing.assert_array_equal(block.cells[0][valid].astype(kind), cells[valid])


@pytest.mark.parametrize(
    "text, word",
    [
        (HEAD + BODY.rstrip()[:-2], "11 values where 4 x 3 make 12"),
        (HEAD + BODY + "13", "13 values"),
        (HEAD + BODY.replace("7", "seven"), "'seven' in row 2, column 3"),
        (HEAD + BODY.replace("7", "7,5"), "row 2"),
        (HEAD.replace("nrows 3\n", "") + BODY, "lacks nrows"),
        (HEAD.replace("cellsize 10\n", "dx 10\n") + BODY, "lacks cellsize"),
        (HEAD.replace("xllcorner 730000\n", "") + BODY, "lacks xllcorner"),
        (HEAD.replace("cellsize 10", "cellsize ten") + BODY, "cellsize is 'ten'"),
        (HEAD.replace("cellsize 10", "cellsize -10") + BODY, "cells of -10"),
        (HEAD.replace("ncols 4", "ncols 4.5") + BODY, "9/2 x 3"),
        (HEAD.replace("nrows 3", "nrows 3000000000") + BODY, "cannot hold"),
    ],
)
def test_what_is_broken_is_named(tmp_path: Path, text: str, word: str) -> None:
    with pytest.raises(InputError) as caught:
        source = grid(tmp_path, text)
        source.cells(source.frame.pane)
    assert word in caught.value.why


def test_a_turned_frame_is_refused(tmp_path: Path) -> None:
    where = Frame(by_code(32626), Affine(0, 0, 1, -1, 0.1, 0.1), 4, 3)
    with pytest.raises(UsageError, match="turned"):
        save(tmp_path / "t.asc", raster(random_cells(3, 4), where=where))


def test_the_usual_nodata_may_not_be_a_value(tmp_path: Path) -> None:
    cells = np.array([[1, -9999], [3, 4]], np.int16)
    with pytest.raises(RefusedError, match="valid cells hold -9999"):
        save(tmp_path / "n.asc", raster(cells))
    block = open_raster(save(tmp_path / "o.asc", raster(cells, nodata=-1))).cells(Pane(0, 0, 2, 2))
    assert block.valid is None and block.cells[0].tolist() == cells.tolist()


def test_codes_stay_codes_without_their_legend(tmp_path: Path) -> None:
    legend = Legend.of([LegendEntry(1, "sea", (1, 2, 3)), LegendEntry(2, "land", (4, 5, 6))])
    codes = (random_cells(9, 9) % 2 + 1).astype(np.uint8)
    save(tmp_path / "c.tif", raster(codes, legend=legend))
    assert "without their legend" in Program(tmp_path)("convert", "c.tif", "--out", "c.asc").err
    np.testing.assert_array_equal(open_raster(tmp_path / "c.asc").cells(Pane(0, 0, 9, 9)).cells[0], codes)


def test_there_and_back_by_the_program(tmp_path: Path) -> None:
    """The CRS travels in the .prj beside; cells, nodata and frame come back as they were."""
    heights = random_cells(300, 210, kind="float32")
    valid = random_cells(300, 210, seed=2) > 40
    save(tmp_path / "h.tif", raster(heights, valid, unit="m"))
    program = Program(tmp_path)
    said = program("convert", "h.tif", "--out", "h.asc").err
    assert "beside it h.prj" in said
    program("convert", "h.asc", "--out", "again.tif")
    one, other = open_raster(tmp_path / "h.tif"), open_raster(tmp_path / "again.tif")
    assert one.frame == other.frame
    first, second = one.cells(one.frame.pane), other.cells(other.frame.pane)
    np.testing.assert_array_equal(first.valid_of(0), second.valid_of(0))
    np.testing.assert_array_equal(first.cells[0][valid], second.cells[0][valid].astype(np.float32))


@given(st.lists(st.one_of(
    st.floats(allow_nan=False, allow_infinity=False).map(repr),
    st.decimals(allow_nan=False, allow_infinity=False, places=6, min_value=-10**9, max_value=10**9).map(str),
    st.integers(-(10**25), 10**25).map(str), st.sampled_from(["+5", "-.5", "7.", "1E3", "0.1e-5", "nan", "-0"]),
), min_size=1, max_size=40))  # fmt: skip
def test_numbers_are_those_that_python_reads(words: list[str]) -> None:
    text = np.frombuffer(" ".join(words).encode(), np.uint8)
    values, odd = np.empty(len(words)), np.empty((len(words), 3), np.int64)
    count, strange = numbertext.values(text, values, odd)
    assert count == len(words)
    for number, first, last in odd[:strange].tolist():
        values[number] = float(text[first:last].tobytes())
    np.testing.assert_array_equal(values, [float(word) for word in words])
