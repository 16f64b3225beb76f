"""Strips that hold a whole image are read as any others, without being held."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import pytest
import tifffile

import depth
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.formats.tiff import longstrips, lzwparts
from zembrel.grid.pane import Pane
from zembrel.raster.passing import blocks_of

CHANCE = np.random.default_rng(11)


@pytest.fixture(autouse=True)
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    """Strips of more than a few rows are long, and come in many pieces."""
    for name, value in {"LONG": 2_000, "_PIECE": 5_000, "_CHUNK": 700}.items():
        monkeypatch.setattr(longstrips, name, value)


@pytest.mark.parametrize("kind", depth.some(["u1", "i2", ">u2", "f4", "f8"], ["u1", ">u2", "f4"]))
@pytest.mark.parametrize("predictor", [False, True])
@pytest.mark.parametrize("samples", depth.some([1, 3], [3]))
@pytest.mark.parametrize("compression", ["zlib", "lzw", "zstd", "lzma", "packbits"])
def test_any_window_of_a_long_strip_is_that_of_the_array(
    tmp_path: Path, kind: str, predictor: bool, samples: int, compression: str
) -> None:
    if compression == "packbits" and predictor:
        return  # the standard knows none with it
    cells: Any = (CHANCE.random((211, 97, samples)) * 250).astype(kind).squeeze()
    cells[40:90, 20:60] = 7  # runs
    order: Any = ">" if kind[0] == ">" else "<"
    facts: dict[str, Any] = {"photometric": "minisblack", "planarconfig": "contig" if samples > 1 else None}
    tifffile.imwrite(
        tmp_path / "s.tif",
        cells,
        byteorder=order,
        rowsperstrip=211,
        compression=compression,
        predictor=predictor,
        **facts,
    )
    source = open_raster(tmp_path / "s.tif")
    for pane in (source.frame.pane, Pane(37, 5, 120, 80), Pane(210, 0, 211, 97), Pane(0, 96, 90, 97)):
        seen = source.cells(pane).cells
        wanted = cells.reshape(211, 97, samples)[pane.top : pane.bottom, pane.left : pane.right]
        assert (seen == wanted.transpose(2, 0, 1)).all() and seen.dtype == cells.dtype.newbyteorder("=")


def half(data: bytes) -> bytes:
    return data[: len(data) // 2]


def with_a_hole(data: bytes) -> bytes:
    return data[:300] + bytes(400) + data[700:]


@pytest.mark.parametrize(  # Zstandard without a checksum takes other bytes for what was packed
    "compression, harm",
    [
        ("zlib", half),
        ("lzw", half),
        ("zstd", half),
        ("lzma", half),
        ("packbits", half),
        ("zlib", with_a_hole),
        ("lzw", with_a_hole),
        ("lzma", with_a_hole),
    ],
)
def test_a_long_strip_that_is_cut_or_damaged_is_an_error(tmp_path: Path, harm: Any, compression: str) -> None:
    cells = np.random.default_rng(11).integers(0, 255, (211, 97)).astype(np.uint8)
    tifffile.imwrite(tmp_path / "s.tif", cells, rowsperstrip=211, compression=compression)
    (tmp_path / "h.tif").write_bytes(harm((tmp_path / "s.tif").read_bytes()))
    with pytest.raises(InputError):
        source = open_raster(tmp_path / "h.tif")
        source.cells(source.frame.pane)


@pytest.mark.parametrize("size", [1, 2, 3_839, 100_000, 2_000_000])
@pytest.mark.parametrize("most", [1, 3, 256])
def test_lzw_in_parts_is_lzw_as_a_whole(size: int, most: int) -> None:
    plain = CHANCE.integers(0, most, size, dtype=np.uint8).tobytes()
    packed = bytes(imagecodecs.lzw_encode(plain))
    pieces = list(lzwparts.parts(lambda at, count: packed[at : at + count], len(packed)))
    assert b"".join(pieces) == plain and (len(pieces) > 1 or len(packed) < 1 << 20)


@pytest.mark.parametrize("compression", ["zlib", "lzw", "zstd"])
def test_all_cells_of_a_long_strip_are_seen_within_bounds(tmp_path: Path, compression: str) -> None:
    cells = np.arange(9_000_000, dtype=np.uint32).reshape(3_000, 3_000) // 7
    tifffile.imwrite(tmp_path / "s.tif", cells, rowsperstrip=3_000, compression=compression)
    source = open_raster(tmp_path / "s.tif")
    panes = blocks_of(source)
    assert max(pane.size for pane in panes) <= 4 << 20
    assert sum(int(source.cells(pane).cells.sum(dtype=np.int64)) for pane in panes) == int(
        cells.sum(dtype=np.int64)
    )
