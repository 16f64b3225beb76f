"""Files that are cut short, run in circles or lie: a clear error, soon, and never a crash."""

from __future__ import annotations

import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rasters import random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block


def read_all(path: Path) -> Block:
    source = open_raster(path)
    assert source.frame.size < 10**7, "a small file may not claim a large image unnoticed"
    return source.cells(source.frame.pane)


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    valid = random_cells(90, 70, seed=4) > 20
    return save(
        tmp_path_factory.mktemp("whole") / "whole.tif", raster(random_cells(3, 90, 70), valid), tile="16"
    )


@given(st.data())
def test_a_file_cut_anywhere_is_refused(whole: Path, data: st.DataObject) -> None:
    content = whole.read_bytes()
    path = whole.with_name("cut.tif")
    path.write_bytes(content[: data.draw(st.integers(1, len(content) - 1))])
    with pytest.raises(InputError):
        read_all(path)


@given(st.data())
def test_flipped_bytes_end_in_cells_or_in_an_error_of_ours(whole: Path, data: st.DataObject) -> None:
    content = bytearray(whole.read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        content[data.draw(st.integers(0, min(len(content) - 1, 4000)))] = data.draw(st.integers(0, 255))
    path = whole.with_name("flipped.tif")
    path.write_bytes(content)
    try:
        source = open_raster(path)
        corner = source.frame.pane.meet(Pane(0, 0, 40, 40))
        assert corner is not None
        source.cells(corner)
    except InputError as exc:
        assert exc.what and exc.why and exc.remedy


def tiff(*entries: tuple[int, int, int, int], after: int = 0, first: int = 8) -> bytes:
    """A classic little-endian TIFF of one directory: (tag, type, count, value) each."""
    table = b"".join(struct.pack("<HHII", *entry) for entry in entries)
    return struct.pack("<2sHIH", b"II", 42, first, len(entries)) + table + struct.pack("<I", after)


SMALL = (
    (256, 4, 1, 4),
    (257, 4, 1, 4),
    (258, 3, 1, 8),
    (259, 3, 1, 1),
    (273, 4, 1, 200),
    (278, 4, 1, 4),
    (279, 4, 1, 16),
)


def but(tag: int, value: int, count: int = 1, kind: int = 4) -> tuple[tuple[int, int, int, int], ...]:
    return tuple((tag, kind, count, value) if entry[0] == tag else entry for entry in SMALL)


@pytest.mark.parametrize(
    "content, word",
    [
        (tiff(*but(256, 2**31)) + bytes(300), "claims 2,147,483,648"),
        (tiff(*but(256, 0)) + bytes(300), "claims 0"),
        (tiff(*but(257, 2**31 - 1)) + bytes(300), "segments"),
        (tiff(*but(259, 34676)) + bytes(300), "scheme 34676"),
        (tiff(*but(258, 48)) + bytes(300), "48] bits"),
        (tiff(*but(273, 9_999)) + bytes(300), "past the end"),
        (tiff(*but(273, 200, count=2**30)) + bytes(300), "past its end"),
        (tiff(*SMALL[1:]) + bytes(300), "lacks the required tag 256"),
        (tiff(*SMALL, first=7_000) + bytes(300), "past the end"),
        (struct.pack("<2sHIH", b"II", 42, 8, 60_000) + bytes(300), "claims 60,000 entries"),
        (b"II*\0", "header"),
        (b"MM\0*\0\0\0\0", "no image"),
        (b"", "is empty"),
        (b"just some words, not a picture at all", "begins with"),
    ],
)  # fmt: skip
def test_each_kind_of_lie_is_named(tmp_path: Path, content: bytes, word: str) -> None:
    path = tmp_path / "lie.tif"
    path.write_bytes(content)
    with pytest.raises(InputError) as caught:
        read_all(path)
    assert word in caught.value.what + caught.value.why


def test_the_small_file_itself_is_sound(tmp_path: Path) -> None:
    path = tmp_path / "sound.tif"
    path.write_bytes((tiff(*SMALL) + bytes(300))[:200] + bytes(range(16)))
    np.testing.assert_array_equal(read_all(path).cells.ravel(), np.arange(16))


@pytest.mark.parametrize("codec", ["deflate", "lzw", "zstd", "packbits"])
@pytest.mark.parametrize("damage", [lambda d: d[:-9], lambda d: b"\xff" * len(d), lambda d: b"\0" * len(d)])
def test_segments_that_do_not_decode_are_named(
    tmp_path: Path, codec: str, damage: Callable[[bytes], bytes]
) -> None:
    import tifffile

    path = save(tmp_path / "s.tif", raster(random_cells(64, 64)), compress=codec, tile="64", overviews="no")
    with tifffile.TiffFile(path) as file:
        start = file.pages[0].dataoffsets[0]
    content = path.read_bytes()
    path.write_bytes(content[:start] + damage(content[start:]).ljust(len(content) - start, b"\1"))
    try:
        assert read_all(path).cells.shape == (1, 64, 64)
        assert codec != "deflate", "it has a check of its own; the others may decode to anything"
    except InputError as exc:
        assert "segment 0" in exc.why
