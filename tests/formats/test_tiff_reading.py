"""TIFFs written by an independent writer read back cell by cell."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from rasters import random_cells
from zembrel.formats import open_raster
from zembrel.formats.tiff.tiffopening import open_tiff
from zembrel.grid.pane import Pane
from zembrel.raster.model import HasOverviews

TYPES = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "float32", "float64")


@st.composite
def flavours(draw: Any) -> dict[str, Any]:
    """Cells and how tifffile is told to store them."""
    bands = draw(st.sampled_from([1, 2, 3, 5]))
    planar = draw(st.booleans()) and bands > 1
    kind = draw(st.sampled_from(TYPES))
    rows, columns = draw(st.integers(1, 70)), draw(st.integers(1, 70))
    cells = random_cells(bands, rows, columns, kind=kind)
    codec = draw(st.sampled_from([None, "zlib", "lzw", "zstd", "packbits"]))
    floats = np.dtype(kind).kind == "f"
    options: dict[str, Any] = {
        "byteorder": draw(st.sampled_from("<>")),
        "bigtiff": draw(st.booleans()),
        "compression": codec,
        "photometric": "minisblack",
        "planarconfig": "separate" if planar else "contig" if bands > 1 else None,
        "predictor": draw(st.booleans()) if codec in ("zlib", "lzw", "zstd") else None,
        "extrasamples": [0] * (bands - 1) if bands > 1 else None,
    }
    options |= draw(st.sampled_from([{"tile": (16, 32)}, {"rowsperstrip": 7}, {"rowsperstrip": 1}, {}]))
    if options["predictor"] and floats:
        options["predictor"] = 3
    return {"cells": cells, "planar": planar, "options": options}


@given(flavours(), st.data())
def test_any_flavour_reads_as_it_was_written(
    tmp_path_factory: Any, flavour: dict[str, Any], data: Any
) -> None:
    path = tmp_path_factory.mktemp("flavour") / "any.tif"
    cells = flavour["cells"]
    stored = cells if flavour["planar"] else cells.transpose(1, 2, 0)
    tifffile.imwrite(
        path, stored[0] if len(cells) == 1 and flavour["planar"] else stored, **flavour["options"]
    )
    raster = open_raster(path)
    rows, columns = cells.shape[1:]
    top, left = data.draw(st.integers(0, rows - 1)), data.draw(st.integers(0, columns - 1))
    bottom, right = data.draw(st.integers(top + 1, rows)), data.draw(st.integers(left + 1, columns))
    block = raster.cells(Pane(top, left, bottom, right))
    np.testing.assert_array_equal(block.cells, cells[:, top:bottom, left:right])
    assert block.valid is None and block.cells.dtype == cells.dtype


def test_a_pane_reads_only_the_tiles_it_needs(tmp_path: Path) -> None:
    """All other tiles are destroyed on disk; the pane reads unharmed, its neighbour does not decode."""
    cells = random_cells(256, 256)
    tifffile.imwrite(tmp_path / "tiles.tif", cells, tile=(64, 64), compression="zlib")
    with tifffile.TiffFile(tmp_path / "tiles.tif") as file:
        page = file.pages[0]
        places = list(zip(page.dataoffsets, page.databytecounts, strict=True))
    content = bytearray((tmp_path / "tiles.tif").read_bytes())
    for number, (offset, count) in enumerate(places):
        if number != 5:
            content[offset : offset + count] = b"\xff" * count
    (tmp_path / "tiles.tif").write_bytes(content)
    block = open_raster(tmp_path / "tiles.tif").cells(Pane(70, 70, 120, 120))
    np.testing.assert_array_equal(block.cells[0], cells[70:120, 70:120])


def test_georeferencing_by_scale_and_tie_point_and_by_matrix(tmp_path: Path) -> None:
    keys = (34735, "H", 16, (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32626), True)
    scale, tie = (
        (33550, "d", 3, (2.0, 3.0, 0.0), True),
        (33922, "d", 6, (10.0, 20.0, 0, 500.0, 900.0, 0), True),
    )
    tifffile.imwrite(tmp_path / "a.tif", random_cells(30, 40), extratags=[keys, scale, tie])
    frame = open_raster(tmp_path / "a.tif").frame
    assert frame.crs is not None and frame.crs.code == 32626 and frame.registration == "cell"
    assert (frame.affine.x0, frame.affine.y0) == (480.0, 960.0) and frame.cell == (2.0, 3.0)
    matrix = (34264, "d", 16, (0.8, 0.6, 0, 100, 0.6, -0.8, 0, 200, 0, 0, 0, 0, 0, 0, 0, 1), True)
    tifffile.imwrite(tmp_path / "b.tif", random_cells(30, 40), extratags=[keys, matrix])
    turned = open_raster(tmp_path / "b.tif").frame
    assert not turned.north_up and turned.cell == pytest.approx((1.0, 1.0))
    assert turned.affine.at(10.0, 5.0) == pytest.approx((100 + 8 + 3, 200 + 6 - 4))


def test_values_on_nodes_are_known_as_such(tmp_path: Path) -> None:
    keys = (34735, "H", 16, (1, 1, 0, 3, 1024, 0, 1, 2, 1025, 0, 1, 2, 2048, 0, 1, 4326), True)
    tags = [(33550, "d", 3, (0.5, 0.5, 0.0), True), (33922, "d", 6, (0, 0, 0, -24.0, 47.0, 0), True), keys]
    tifffile.imwrite(tmp_path / "nodes.tif", random_cells(3, 3), extratags=tags)
    frame = open_raster(tmp_path / "nodes.tif").frame
    assert frame.registration == "node" and frame.bounds == (-24.25, 45.75, -22.75, 47.25)


def test_nodata_text_becomes_validity(tmp_path: Path) -> None:
    cells = random_cells(20, 20, kind="int16")
    cells[3:5] = -32768
    tifffile.imwrite(tmp_path / "n.tif", cells, extratags=[(42113, "s", 0, "-32768", True)])
    block = open_raster(tmp_path / "n.tif").cells(Pane(0, 0, 20, 20))
    np.testing.assert_array_equal(block.valid_of(0), cells != -32768)


def test_alpha_and_palette_of_another_writer(tmp_path: Path) -> None:
    rgba = random_cells(4, 33, 21)
    rgba[3] = np.where(rgba[3] > 128, 255, 0)
    Image.fromarray(rgba.transpose(1, 2, 0), "RGBA").save(tmp_path / "rgba.tif")
    photo = open_raster(tmp_path / "rgba.tif")
    block = photo.cells(photo.frame.pane)
    assert [band.name for band in photo.bands] == ["red", "green", "blue", "alpha"]
    np.testing.assert_array_equal(block.valid, rgba[3] > 0)
    np.testing.assert_array_equal(block.cells, rgba)
    picture = Image.fromarray(random_cells(33, 21) % 6, "P")
    picture.putpalette([10, 20, 30, 40, 50, 60, 70, 80, 90])
    picture.save(tmp_path / "palette.tif")
    legend = open_raster(tmp_path / "palette.tif").bands[0].legend
    assert legend is not None and legend.entries[1].colour == (40, 50, 60)


def test_a_bilevel_image_reads_as_0_and_1(tmp_path: Path) -> None:
    bits = random_cells(37, 53) > 128
    Image.fromarray(bits).save(tmp_path / "bits.tif")
    raster = open_raster(tmp_path / "bits.tif")
    np.testing.assert_array_equal(raster.cells(raster.frame.pane).cells[0], bits)


def test_overviews_and_pages_of_another_writer(tmp_path: Path) -> None:
    full, half = random_cells(64, 80), random_cells(32, 40, seed=2)
    with tifffile.TiffWriter(tmp_path / "o.tif") as file:
        file.write(full, tile=(16, 16))
        file.write(half, tile=(16, 16), subfiletype=1)
        file.write(random_cells(10, 10, seed=3))
    raster = open_tiff(tmp_path / "o.tif")
    assert isinstance(raster, HasOverviews)
    small = raster.coarser(2.0)
    np.testing.assert_array_equal(small.cells(small.frame.pane).cells[0], half)
    assert small.frame.bounds == raster.frame.bounds
    second = open_tiff(tmp_path / "o.tif", "2")
    np.testing.assert_array_equal(second.cells(second.frame.pane).cells[0], random_cells(10, 10, seed=3))
