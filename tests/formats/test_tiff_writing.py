"""What Zembrel writes as GeoTIFF, seen by independent readers and by itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from depth import examples
from rasters import ArrayRaster, frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.formats.tiff import assemble
from zembrel.formats.tiff.tiffopening import open_tiff
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band

TYPES = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "uint64", "int64", "float32", "float64")
LEGEND = Legend.of([LegendEntry(1, "open water", (88, 131, 153)), LegendEntry(2, "heath", (148, 118, 128))])


@settings(max_examples=examples(30))
@given(
    st.sampled_from(TYPES), st.sampled_from(["none", "deflate", "deflate:1", "lzw", "packbits", "zstd"]),
    st.sampled_from([1, 2, 3, 4, 6]), st.integers(1, 90), st.integers(1, 90), st.sampled_from(["16", "32", "64"]),
)  # fmt: skip
def test_an_independent_reader_sees_the_same_cells(
    tmp_path_factory: Any, kind: str, codec: str, bands: int, rows: int, columns: int, tile: str
) -> None:
    cells = random_cells(bands, rows, columns, kind=kind)
    path = save(
        tmp_path_factory.mktemp("written") / "any.tif", raster(cells, unit=""), compress=codec, tile=tile
    )
    with tifffile.TiffFile(path) as file:
        seen = file.pages[0].asarray()
    expected = cells if bands > 4 else cells.transpose(1, 2, 0)
    np.testing.assert_array_equal(np.squeeze(seen), np.squeeze(expected))
    again = open_raster(path)
    np.testing.assert_array_equal(again.cells(again.frame.pane).cells, cells)


@pytest.mark.parametrize("smooth", [True, False])
def test_runs_and_matches_are_both_plain_deflate(tmp_path: Path, smooth: bool) -> None:
    """Noise takes the way without matches, a pattern the one with them; both are standard streams."""
    rows, cols = np.mgrid[:300, :300]
    cells = ((rows * cols) % 251 if smooth else 128 + random_cells(300, 300) // 16).astype(np.uint8)
    path = save(tmp_path / "d.tif", raster(cells), compress="deflate:6", tile="256", overviews="no")
    np.testing.assert_array_equal(tifffile.imread(path), cells)
    np.testing.assert_array_equal(np.asarray(Image.open(path)), cells)


@given(
    st.floats(-1e7, 1e7),
    st.floats(-1e7, 1e7),
    st.floats(1e-5, 1e4),
    st.sampled_from(["cell", "node"]),
    st.booleans(),
)
def test_the_frame_comes_back_to_the_last_bit(
    tmp_path_factory: Any, left: float, top: float, cell: float, registration: str, turned: bool
) -> None:
    turn = cell / 3 if turned else 0.0
    where = Frame(by_code(32627), Affine(left, top, cell, -cell, turn, turn), 5, 4, registration)
    path = save(tmp_path_factory.mktemp("frame") / "f.tif", raster(random_cells(4, 5), where=where))
    assert open_raster(path).frame == where


def test_bands_are_told_apart_by_names_units_scales_and_classes(tmp_path: Path) -> None:
    bands = (Band("cover", "uint8", legend=LEGEND),)
    path = save(tmp_path / "c.tif", ArrayRaster(frame(9, 9), bands, np.ones((1, 9, 9), np.uint8)))
    read = open_raster(path).bands[0]
    assert read.name == "cover" and read.legend is not None
    assert [e for e in read.legend.entries if e.name] == list(LEGEND.entries)
    assert Image.open(path).convert("RGB").getpixel((0, 0)) == (88, 131, 153)
    scaled = (Band("depth", "int16", -1, unit="m", scale=0.1, offset=-5.0),)
    path = save(tmp_path / "s.tif", ArrayRaster(frame(9, 9), scaled, np.ones((1, 9, 9), np.int16)))
    assert open_raster(path).bands == scaled


@pytest.mark.parametrize("kind, nodata", [("uint8", None), ("uint8", 7), ("float32", None), ("int16", -9999)])
def test_validity_survives_as_mask_nodata_or_nan(tmp_path: Path, kind: str, nodata: int | None) -> None:
    cells = np.where(random_cells(300, 200) % 2, 3, 5).astype(kind)
    valid = random_cells(300, 200, seed=3) > 100
    path = save(tmp_path / "v.tif", raster(cells, valid, nodata=nodata), tile="64")
    read = open_raster(path)
    block = read.cells(read.frame.pane)
    np.testing.assert_array_equal(block.valid_of(0), valid)
    np.testing.assert_array_equal(block.cells[0][valid], cells[valid])
    with tifffile.TiffFile(path) as file:
        text = file.pages[0].tags.get(42113)
        masks = [page for page in file.pages if page.subfiletype & 4]
        assert (text.value.strip("\0") if text else None) == {None: None if kind == "uint8" else "nan"}.get(
            nodata, str(nodata)
        )
        if kind == "uint8" and nodata is None:
            np.testing.assert_array_equal(masks[0].asarray() > 0, valid)
            assert len(masks) == len(file.pages) // 2
        else:
            assert not masks


def test_overviews_halve_down_to_one_tile_by_means_of_valid_cells(tmp_path: Path) -> None:
    cells, valid = random_cells(3, 210, 170), random_cells(210, 170, seed=9) > 60
    path = save(tmp_path / "o.tif", raster(cells, valid), tile="32")
    tiff = open_tiff(path)
    assert [d.number_of(256) for d in tiff.reduced] == [85, 43, 22]
    half = tiff.coarser(2)
    block = half.cells(half.frame.pane)
    total = np.where(valid, cells, 0).reshape(3, 105, 2, 85, 2).sum(axis=(2, 4), dtype=int)
    count = valid.reshape(105, 2, 85, 2).sum(axis=(1, 3))
    expected = np.floor(total / np.maximum(count, 1) + 0.5)
    np.testing.assert_array_equal(block.valid_of(0), count > 0)
    np.testing.assert_array_equal(block.cells[:, count > 0], expected[:, count > 0])


def test_overviews_of_codes_hold_only_codes_that_are_there(tmp_path: Path) -> None:
    cells = np.where(random_cells(256, 256) > 128, 1, 4).astype(np.uint8)
    path = save(
        tmp_path / "c.tif",
        ArrayRaster(frame(256, 256), (Band("c", "uint8", legend=LEGEND),), cells[None]),
        tile="32",
    )
    for directory in open_tiff(path).reduced:
        small = open_tiff(path).coarser(256 / directory.number_of(256))
        assert set(np.unique(small.cells(small.frame.pane).cells)) <= {1, 4}


def test_the_file_is_laid_out_for_the_cloud(tmp_path: Path) -> None:
    """All directories come first, then overviews from small to large, then the full image, row by row."""
    path = save(tmp_path / "cog.tif", raster(random_cells(3, 500, 400)), tile="64")
    with tifffile.TiffFile(path) as file:
        starts = [min(page.dataoffsets) for page in file.pages]
        assert max(page.offset for page in file.pages) < min(starts)
        assert starts == sorted(starts, reverse=True)
        assert all(
            page.is_tiled and list(page.dataoffsets) == sorted(page.dataoffsets) for page in file.pages
        )
        assert [page.subfiletype for page in file.pages] == [0] + [1] * (len(file.pages) - 1)


def test_what_would_pass_4_gib_gets_64_bit_offsets(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert 2**32 - 10**6 < assemble.CLASSIC_LIMIT < 2**32
    monkeypatch.setattr(assemble, "CLASSIC_LIMIT", 10_000)
    cells = random_cells(3, 200, 150)
    path = save(tmp_path / "big.tif", raster(cells), tile="32")
    with tifffile.TiffFile(path) as file:
        assert file.is_bigtiff
        np.testing.assert_array_equal(file.pages[0].asarray(), cells.transpose(1, 2, 0))
    again = open_raster(path)
    np.testing.assert_array_equal(again.cells(again.frame.pane).cells, cells)
