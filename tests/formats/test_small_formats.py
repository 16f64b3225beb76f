"""Pictures, arrays, world files, legends, and how formats are told apart."""

from __future__ import annotations

import struct
import subprocess
import sys
import zlib
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from rasters import HOME, ArrayRaster, frame, random_cells, raster, save
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.formats import FORMATS, choose_format, identify, load, open_raster
from zembrel.formats.legendfile import read_legend, write_legend
from zembrel.formats.worldfile import world_file_name, write_world_file
from zembrel.geodesy.text import write_crs
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import TYPES, Band

LEGEND = Legend.of(
    [
        LegendEntry(0, "", (0, 0, 0)),
        LegendEntry(3, 'a "quoted" name', (1, 2, 3)),
        LegendEntry(7, "heath", (148, 118, 128)),
    ]
)


@pytest.mark.parametrize("shape", [(1, 40, 30), (3, 40, 30)])
@pytest.mark.parametrize("kind", ["uint8", "uint16"])
def test_png_holds_cells_and_validity(tmp_path: Path, shape: tuple[int, ...], kind: str) -> None:
    cells, valid = random_cells(*shape, kind=kind), random_cells(40, 30, seed=2) > 100
    path = save(tmp_path / "p.png", raster(cells, valid))
    read = open_raster(path)
    block = read.cells(read.frame.pane)
    np.testing.assert_array_equal(block.valid_of(0), valid)
    np.testing.assert_array_equal(block.cells[: len(cells), valid], cells[:, valid])
    assert (block.cells[-1, valid] == np.iinfo(kind).max).all() and read.bands[-1].colour == "alpha"
    opaque = save(tmp_path / "o.png", raster(cells))
    assert np.asarray(Image.open(opaque)).shape[:2] == (40, 30)
    if kind == "uint8":
        np.testing.assert_array_equal(np.atleast_3d(np.asarray(Image.open(opaque))), cells.transpose(1, 2, 0))


def test_jpeg_is_close_and_white_where_nothing_is(tmp_path: Path) -> None:
    rows, cols = np.mgrid[:64, :64]
    cells = np.stack([rows * 3, cols * 3, rows + cols]).astype(np.uint8)
    valid = np.ones((64, 64), bool)
    valid[:16] = False
    seen = np.asarray(Image.open(save(tmp_path / "j.jpg", raster(cells, valid), quality="95"))).transpose(
        2, 0, 1
    )
    assert np.abs(seen.astype(int) - cells)[:, 24:].max() < 12
    assert seen[:, :8].min() > 245


def test_a_palette_picture_keeps_its_codes_and_what_is_invalid(tmp_path: Path) -> None:
    cells, valid = (random_cells(20, 20) % 8).astype(np.uint8), random_cells(20, 20, seed=2) > 50
    bands = (Band("c", "uint8", legend=LEGEND),)
    read = open_raster(save(tmp_path / "c.png", ArrayRaster(frame(20, 20), bands, cells[None], valid)))
    block = read.cells(read.frame.pane)
    np.testing.assert_array_equal(block.valid_of(0), valid)
    np.testing.assert_array_equal(block.cells[0][valid], cells[valid])
    assert read.bands[0].legend == LEGEND
    full = ArrayRaster(
        frame(16, 17),
        bands,
        np.arange(272).astype(np.uint8).reshape(1, 17, 16),
        np.arange(272).reshape(17, 16) < 260,
    )
    with pytest.raises(RefusedError, match="256 codes"):
        save(tmp_path / "full.png", full)


@pytest.mark.parametrize("kind", ["uint8", "int32", "float32", "float64"])
def test_arrays_are_bands_rows_columns(tmp_path: Path, kind: str) -> None:
    cells = random_cells(4, 30, 20, kind=kind)
    path = save(tmp_path / "a.npy", raster(cells, unit=""))
    np.testing.assert_array_equal(np.load(path), cells)
    read = open_raster(path)
    np.testing.assert_array_equal(read.cells(read.frame.pane).cells, cells)


def test_an_array_says_nothing_with_nan_or_nodata_or_not_at_all(tmp_path: Path) -> None:
    valid = random_cells(9, 9) > 100
    floats = np.load(save(tmp_path / "f.npy", raster(np.ones((9, 9)), valid)))
    np.testing.assert_array_equal(np.isnan(floats[0]), ~valid)
    marked = np.load(save(tmp_path / "n.npy", raster(np.ones((9, 9), np.int16), valid, nodata=-7)))
    np.testing.assert_array_equal(marked[0] == -7, ~valid)
    with pytest.raises(RefusedError, match="no nodata value is chosen"):
        save(tmp_path / "r.npy", raster(np.ones((9, 9), np.int16), valid))


@pytest.mark.parametrize("bad", [b"", b"\x93NUMPY\x01\x00", b"\x93NUMPY\x01\x00\xff\xff{"])
def test_a_broken_array_is_refused(tmp_path: Path, bad: bytes) -> None:
    (tmp_path / "b.npy").write_bytes(bad)
    with pytest.raises(InputError):
        open_raster(tmp_path / "b.npy")


def test_arrays_of_objects_or_one_dimension_are_refused(tmp_path: Path) -> None:
    for values in (np.array([{}], object), np.arange(5), np.zeros((2, 2), complex)):
        np.save(tmp_path / "x.npy", values, allow_pickle=True)
        with pytest.raises(InputError):
            open_raster(tmp_path / "x.npy")


@pytest.mark.parametrize("registration", ["cell", "node"])
def test_a_world_file_and_prj_place_a_picture_to_the_last_bit(tmp_path: Path, registration: str) -> None:
    where = Frame(HOME, Affine(730_000.1, 5_100_000.7, 0.3, -0.3, 0.1, 0.2), 20, 10)
    path = save(tmp_path / "w.png", raster(random_cells(10, 20), where=where))
    world_file_name(path).write_text(write_world_file(where))
    path.with_suffix(".prj").write_text(write_crs(HOME))
    read = open_raster(path).frame
    assert read.crs == HOME and read.affine.x_row == 0.1
    assert abs(Fraction(read.affine.x0) - Fraction(730_000.1)) <= Fraction(2) ** -33


def test_world_files_are_named_by_the_pictures_ending() -> None:
    names = {"a.png": "a.pgw", "a.jpg": "a.jgw", "a.tif": "a.tfw", "b.jpeg": "b.jgw"}
    assert {n: world_file_name(Path(n)).name for n in names} == names


def test_a_wrong_world_file_is_refused_not_ignored(tmp_path: Path) -> None:
    path = save(tmp_path / "w.png", raster(random_cells(10, 20)))
    (tmp_path / "w.pgw").write_text("1\n2\nthree\n")
    with pytest.raises(InputError, match="six numbers"):
        open_raster(path)


def test_a_legend_file_reads_back(tmp_path: Path) -> None:
    path = tmp_path / "l.legend.toml"
    path.write_text(write_legend(LEGEND))
    assert read_legend(path) == LEGEND


@pytest.mark.parametrize(
    "text", ["[a]\ncolour='#000000'\n", "[3]\nname='x'\n", "[3]\ncolour='red'\n", "[3]\ncolor='#000000'\n"]
)
def test_a_wrong_legend_file_is_refused(tmp_path: Path, text: str) -> None:
    (tmp_path / "l.legend.toml").write_text(text)
    with pytest.raises(InputError):
        read_legend(tmp_path / "l.legend.toml")


def test_files_are_known_by_content_and_results_by_name(tmp_path: Path) -> None:
    path = save(tmp_path / "a.png", raster(random_cells(5, 5)))
    path.rename(tmp_path / "a.tif")
    assert identify(tmp_path / "a.tif") == "png"
    assert choose_format(Path("a.TIFF"), None) == "geotiff" and choose_format(Path("a"), "PNG") == "png"
    for wrong in (("a.xyzw", None), ("a.tif", "pgn")):
        with pytest.raises(UsageError):
            choose_format(Path(wrong[0]), wrong[1])


@pytest.mark.parametrize("name", FORMATS)
def test_every_row_of_the_table_loads_and_offers_what_the_table_says(name: str) -> None:
    module = load(name)
    assert all(callable(getattr(module, part)) for part in ("open_raster", "layers", "make_sink"))
    assert FORMATS[name].endings and FORMATS[name].specification and set(FORMATS[name].types) <= set(TYPES)


def interlaced(path: Path, side: int) -> None:
    """A black picture in the seven passes of Adam7 (ISO/IEC 15948, section 8.2)."""
    passes = [
        (0, 0, 8, 8),
        (4, 0, 8, 8),
        (0, 4, 4, 8),
        (2, 0, 4, 4),
        (0, 2, 2, 4),
        (1, 0, 2, 2),
        (0, 1, 1, 2),
    ]
    sizes = [(len(range(x, side, dx)), len(range(y, side, dy))) for x, y, dx, dy in passes]
    data = zlib.compress(bytes(sum((across + 1) * down for across, down in sizes)), 1)
    head = struct.pack(">IIBBBBB", side, side, 8, 0, 0, 0, 1)
    chunks = ((b"IHDR", head), (b"IDAT", data), (b"IEND", b""))
    text = b"".join(
        struct.pack(">I", len(d)) + k + d + struct.pack(">I", zlib.crc32(k + d)) for k, d in chunks
    )
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + text)


def test_a_picture_is_held_twice_while_it_is_decoded_and_not_more_often(tmp_path: Path) -> None:
    peaks = {}
    for side in (64, 7_000):
        interlaced(tmp_path / "i.png", side)
        code = (
            "import resource, sys; from zembrel.formats import open_raster; r = open_raster(__import__('pathlib').Path('i.png'));"
            "assert not r.cells(r.frame.pane).cells.any(); print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)"
        )
        words = [sys.executable, "-c", code]
        peaks[side] = int(
            subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=True).stdout
        )
    assert (peaks[7_000] - peaks[64]) * 1024 < 2.8 * 7_000**2
