"""One-degree cells: hgt and DTED, read and written, and made from a sheet of another datum."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import raster, save
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.formats import open_raster
from zembrel.formats.degreecell import degree_cell
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block

WGS_84 = by_code(4326)
# name, west, south: all four hemispheres
CELLS = [
    ("N46W024", -24, 46),
    ("S01E010", 10, -1),
    ("N00E000", 0, 0),
    ("S90W180", -180, -90),
    ("N89E179", 179, 89),
]


def heights(side: int) -> np.ndarray:
    rows, cols = np.mgrid[:side, :side]
    return (400 * np.sin(cols / 90) * np.cos(rows / 70) - 60 * np.sin(cols / 7)).astype(np.int16)


@pytest.mark.parametrize("name, west, south", CELLS)
def test_names_say_where_a_height_cell_is(tmp_path: Path, name: str, west: int, south: int) -> None:
    values, valid = heights(1201), np.ones((1201, 1201), bool)
    valid[5, 7] = False
    path = save(tmp_path / f"{name}.hgt", raster(values, valid, degree_cell(west, south, 1201, 1201)))
    raw = np.fromfile(path, ">i2").reshape(1201, 1201)
    assert raw[5, 7] == -32768
    np.testing.assert_array_equal(raw[valid], values[valid])
    found = open_raster(path)
    assert found.frame == Frame(WGS_84, Affine(west, south + 1.0, 1 / 1200, -1 / 1200), 1201, 1201, "node")
    np.testing.assert_array_equal(found.cells(found.frame.pane).valid_of(0), valid)
    with pytest.raises(UsageError, match="not the name"):
        save(tmp_path / "N10E010.hgt", raster(values, where=degree_cell(west, south, 1201, 1201)))


@pytest.mark.parametrize(
    "name, size, word",
    [
        ("N46W024", 2 * 1201 * 1200, "no whole height cell"),
        ("harbour", 2 * 1201**2, "where it is"),
        ("N99W024", 8, "off"),
    ],
)
def test_cells_that_are_none_are_refused(tmp_path: Path, name: str, size: int, word: str) -> None:
    path = tmp_path / f"{name}.hgt"
    path.write_bytes(bytes(size))
    with pytest.raises(InputError, match=word):
        open_raster(path)


def test_swapped_bytes_are_suspected(tmp_path: Path) -> None:
    heights(1201).tofile(tmp_path / "N46W024.hgt")  # in the order of this machine
    heights(1201).astype(">i2").tofile(tmp_path / "N47W024.hgt")
    program = Program(tmp_path)
    assert "in little-endian order: the bytes may be swapped" in program("describe", "N46W024.hgt").out
    assert "swapped" not in program("describe", "N47W024.hgt").out


@pytest.mark.parametrize(
    "level, south, columns, rows",
    [(0, 46, 121, 121), (1, 46, 1201, 1201), (1, -56, 601, 1201), (0, 82, 21, 121)],
)
def test_dted_is_laid_out_as_specified(
    tmp_path: Path, level: int, south: int, columns: int, rows: int
) -> None:
    values = np.resize(heights(1201), (rows, columns)).copy()
    values[0, 0], values[1, 0] = -12_000, 9_000
    valid = np.ones(values.shape, bool)
    valid[2, 1] = False
    path = save(tmp_path / f"c.dt{level}", raster(values, valid, degree_cell(-24, south, columns, rows)))
    data = path.read_bytes()
    assert len(data) == 80 + 648 + 2700 + columns * (12 + 2 * rows)
    assert data[:20] == b"UHL10240000W" + f"{abs(south):03}0000{'S' if south < 0 else 'N'}".encode()
    assert data[80:83] == b"DSI" and data[728:731] == b"ACC"
    assert data[80 + 59 : 80 + 64] == f"DTED{level}".encode() and data[80 + 144 : 80 + 149] == b"WGS84"
    second = data[3428 + 12 + 2 * rows :][: 12 + 2 * rows]
    assert second[:8] == bytes([0xAA, 0, 0, 1, 0, 1, 0, 0])
    assert int.from_bytes(second[-4:], "big") == sum(second[:-4])
    codes = np.frombuffer(second[8:-4], ">u2").astype(int)
    column = np.where(codes & 0x8000, -(codes & 0x7FFF), codes)[::-1]
    assert column[2] == -32767
    np.testing.assert_array_equal(column[valid[:, 1]], values[valid[:, 1], 1])
    found = open_raster(path)
    block = found.cells(Pane(0, 0, rows, 2))
    np.testing.assert_array_equal(block.valid_of(0), valid[:, :2])
    np.testing.assert_array_equal(block.cells[0][valid[:, :2]], values[:, :2][valid[:, :2]])


def test_dted_that_lies_is_refused(tmp_path: Path) -> None:
    path = save(tmp_path / "c.dt0", raster(heights(121), where=degree_cell(-24, 46, 121, 121)))
    whole = path.read_bytes()
    for broken, word in (
        (whole[:-300], "bytes where"),
        (whole[:60], "labels"),
        (whole.replace(b"01210121", b"0121x121"), "first label"),
    ):
        path.write_bytes(broken)
        with pytest.raises(InputError) as caught:
            open_raster(path)
        assert word in caught.value.why
    path.write_bytes(whole[:-9] + bytes([whole[-9] ^ 1]) + whole[-8:])
    found = open_raster(path)
    with pytest.raises(InputError) as caught:
        found.cells(found.frame.pane)
    assert "checksum of meridian 121" in caught.value.why
    with pytest.raises(RefusedError, match="no one-degree cell"):
        save(tmp_path / "c.dt1", raster(heights(121), where=degree_cell(-24, 46, 121, 121)))


def surface(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """Metres at degrees of WGS 84."""
    return np.asarray(700 + 300 * np.sin(lon * 40) * np.cos(lat * 37) + 40 * np.sin(lon * 230 + lat * 210))


@dataclass(frozen=True)
class Sheet:
    """The surface in another datum, with a void."""

    frame: Frame
    bands: tuple[Band, ...] = (Band("height", "float32", unit="m"),)

    def cells(self, pane: Pane) -> Block:
        rows, cols = np.mgrid[pane.top : pane.bottom, pane.left : pane.right].astype(float)
        x, y = self.frame.centres(cols, rows)
        lon, lat = operation(self.frame.crs, WGS_84)(x.ravel(), y.ravel())  # type: ignore[arg-type]
        void = (cols > 700) & (cols < 800) & (rows > 500) & (rows < 600)
        return Block(surface(lon, lat).reshape(1, *pane.shape).astype(np.float32), ~void)


def test_a_cell_is_made_from_a_finer_sheet_of_another_datum(tmp_path: Path) -> None:
    step = 2.25 / 3600
    side = int(1.02 / step)
    sheet = Frame(by_code(4230), Affine(-24.01, 47.01, step, -step), side, side)  # ED50
    save(tmp_path / "ed50.tif", Sheet(sheet), overviews="no", compress="none")
    program = Program(tmp_path)
    hint = program.refuses(4, "convert", "ed50.tif", "--type", "int16", "--round", "--out", "N46W024.dt1")[2]
    program(*hint.partition(", then")[0].replace("make its frame: ", "").split()[1:])
    program(
        "reproject", "ed50.tif", "--onto", "N46W024.frame.toml", "--type", "int16", "--out", "N46W024.dt1"
    )
    profiles = np.fromfile(tmp_path / "N46W024.dt1", np.uint8)[3428:].reshape(1201, 8 + 2402 + 4)
    cell = profiles[:, 8:-4].copy().view(">i2").T[::-1]  # a profile a column, from south to north
    lon, lat = np.meshgrid(-24 + np.arange(1201) / 1200, 47 - np.arange(1201) / 1200)
    known = cell >= 0  # heights are, and a void is all ones: sign and magnitude
    off = (cell - surface(lon, lat))[known]
    assert np.sqrt((off**2).mean()) < 0.5
    assert 4000 < (~known).sum() < 8000  # the void, which has 99 x 99 cells of 2.25 seconds
    assert open_raster(tmp_path / "N46W024.dt1").frame == degree_cell(-24, 46, 1201, 1201)


CELLS = {"hgt": "1arcsec", "dt0": "30arcsec", "dt1": "3arcsec"}


@pytest.mark.parametrize("ending", CELLS)
@pytest.mark.parametrize("verb", ["reproject", "mosaic"])
def test_the_name_of_a_cell_says_its_frame(zembrel: Program, ending: str, verb: str) -> None:
    """Byte for byte what the frame by hand gives; heights are rounded, and the receipt says so."""
    heights = np.linspace(0, 900, 60 * 60).reshape(60, 60).astype(np.float32)
    where = Frame(by_code(32626), Affine(733_000.0, 5_099_000.0, 25.0, -25.0), 60, 60)
    save(zembrel.folder / "dem.tif", raster(heights, where=where, unit="m"))
    zembrel("frame", "--within", "degree:N46W024", "--cell", CELLS[ending], "--registration", "node", "--out",
            "c.frame.toml")  # fmt: skip
    zembrel(
        "reproject", "dem.tif", "--onto", "c.frame.toml", "--type", "int16", "--out", f"hand/N46W024.{ending}"
    )
    said = zembrel(verb, "dem.tif", "--within", "degree:N46W024", "--out", f"N46W024.{ending}").err
    assert "rounded" in said
    by_hand = (zembrel.folder / f"hand/N46W024.{ending}").read_bytes()
    assert (zembrel.folder / f"N46W024.{ending}").read_bytes() == by_hand
