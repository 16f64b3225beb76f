"""Raw grids: any layout and byte order reads as NumPy lays it out, and comes back through the program."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from program import Program
from rasters import random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.grid.frame import Affine
from zembrel.grid.pane import Pane

AXES = {"bsq": (0, 1, 2), "bil": (1, 0, 2), "bip": (1, 2, 0)}
TYPES = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "float32", "float64")
NAMES = {"u": "unsignedint", "i": "SIGNEDINT", "f": "Float"}


@given(
    st.sampled_from(sorted(AXES)), st.sampled_from(TYPES), st.sampled_from("IM"), st.integers(1, 4), st.integers(0, 40),
    st.booleans(), st.data(),
)  # fmt: skip
def test_every_layout_reads_as_it_was_laid_out(
    tmp_path_factory: Any, way: str, kind: str, order: str, bands: int, skip: int, padded: bool, data: Any
) -> None:
    folder = tmp_path_factory.mktemp("raw")
    cells, size = random_cells(bands, 11, 13, kind=kind), np.dtype(kind).itemsize
    stored = cells.transpose(AXES[way]).astype(np.dtype(kind).newbyteorder("<" if order == "I" else ">"))
    pad = 6 if padded else 0
    rows = stored.reshape(-1, stored.shape[-1] if way != "bip" else 13 * bands)
    body = b"".join(row.tobytes() + b"\xaa" * pad for row in rows)
    line = 13 * size * (bands if way == "bip" else 1) + pad
    header = (
        f"ncols 13\nNROWS = 11\nnbands {bands}\nnbits {8 * size}\npixeltype {NAMES[np.dtype(kind).kind]}\n"
    )
    header += f"byteorder {order}\nlayout {way}\nskipbytes {skip}\n"
    header += f"totalrowbytes {line if way == 'bip' else line * bands}\nbandrowbytes {line}\n"
    (folder / f"g.{way}").write_bytes(b"\xbb" * skip + body)
    (folder / "g.hdr").write_text(header)
    source = open_raster(folder / f"g.{way}")
    top, left = data.draw(st.integers(0, 10)), data.draw(st.integers(0, 12))
    block = source.cells(Pane(top, left, 11, 13))
    np.testing.assert_array_equal(block.cells, cells[:, top:, left:])
    assert block.cells.dtype == np.dtype(kind)


def test_the_first_cells_middle_places_the_grid(tmp_path: Path) -> None:
    (tmp_path / "g.bil").write_bytes(bytes(12))
    head = "nrows 3\nncols 4\nulxmap 730005\nulymap 5100095\nxdim 10\nydim 10\n"
    (tmp_path / "g.hdr").write_text(head)
    assert open_raster(tmp_path / "g.bil").frame.affine == Affine(730_000, 5_100_100, 10, -10)
    (tmp_path / "g.hdr").write_text("nrows 3\nncols 4\n")
    assert open_raster(tmp_path / "g.bil").frame.bounds == (-0.5, -0.5, 3.5, 2.5)


@pytest.mark.parametrize("way", sorted(AXES))
@pytest.mark.parametrize("order", ["little", "big"])
def test_there_and_back_by_the_program(tmp_path: Path, way: str, order: str) -> None:
    cells, valid = random_cells(3, 90, 70, kind="int16"), random_cells(90, 70, seed=2) > 60
    cells[cells == -1] = 5
    save(tmp_path / "a.tif", raster(cells, valid, nodata=-1))
    program = Program(tmp_path)
    said = program("convert", "a.tif", "--set", f"byteorder={order}", "--out", f"b.{way}").err
    assert "beside it b.hdr" in said and "beside it b.prj" in said
    stored = np.fromfile(tmp_path / f"b.{way}", "<i2" if order == "little" else ">i2")
    shape = [(3, 90, 70)[axis] for axis in AXES[way]]
    back = stored.reshape(shape).transpose(np.argsort(AXES[way]))
    np.testing.assert_array_equal(back, np.where(valid, cells, -1))
    assert "raw grid" in program("describe", f"b.{way}").out
    program("convert", f"b.{way}", "--out", "c.tif")
    one, other = open_raster(tmp_path / "a.tif"), open_raster(tmp_path / "c.tif")
    assert one.frame == other.frame and [b.nodata for b in other.bands] == [-1] * 3
    first, second = one.cells(one.frame.pane), other.cells(other.frame.pane)
    np.testing.assert_array_equal(first.cells, second.cells)
    np.testing.assert_array_equal(first.valid, second.valid)


@pytest.mark.parametrize(
    "header, word",
    [
        ("nrows 3\n", "lacks ncols"),
        ("nrows 3\nncols 5\n", "12 bytes where its header makes 15"),
        ("nrows 3\nncols 4\nnbits 12\n", "nbits 12"),
        ("nrows 3\nncols 4\nnbits 16\npixeltype float\n", "pixeltype float"),
        ("nrows 3\nncols 4\nbyteorder X\n", "byteorder X"),
        ("nrows 3\nncols 4\nlayout bill\n", "layout bill"),
        ("nrows three\nncols 4\n", "nrows three"),
        ("nrows 3\nncols 4\nxdim -2\n", "cells of -2"),
        ("nrows 3\nncols 4\nulxmap west\n", "west"),
        ("nrows 999999999999\nncols 4\n", "where its header makes"),
        ("nrows 3\nncols 4\nnbands 0\n", "nbands 0"),
        ("nrows 3\nncols 4\nnbands 999999999\nbandrowbytes 0\n", "nbands 999999999"),
    ],
)
def test_headers_that_lie_are_named(tmp_path: Path, header: str, word: str) -> None:
    (tmp_path / "g.bil").write_bytes(bytes(12))
    (tmp_path / "g.hdr").write_text(header)
    with pytest.raises(InputError) as caught:
        open_raster(tmp_path / "g.bil")
    assert word in caught.value.why


def test_what_is_missing_is_said(tmp_path: Path) -> None:
    (tmp_path / "g.bsq").write_bytes(bytes(12))
    program = Program(tmp_path)
    assert "no header beside it" in program.refuses(3, "describe", "g.bsq")[0]
    save(tmp_path / "m.tif", raster(random_cells(9, 9), random_cells(9, 9, seed=2) > 99))
    assert "add --nodata VALUE" in program.refuses(4, "convert", "m.tif", "--out", "m.bil")[2]
