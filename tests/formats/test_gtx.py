"""GTX grids, against the layout as it is published and files put together from it."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import frame, raster, save
from zembrel.errors import InputError
from zembrel.formats import FORMATS, open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.separation import GridSeparation

HEAD = (44.0, -26.0, 0.5, 0.25)  # south, west, steps north and east


def gtx(values: np.ndarray, head: tuple[float, ...] = HEAD) -> bytes:
    """values: rows from the south."""
    return struct.pack(">4d2i", *head, *values.shape) + values.astype(">f4").tobytes()


def test_rows_come_from_the_south_and_voids_are_invalid(tmp_path: Path) -> None:
    values = np.arange(12.0).reshape(3, 4)
    values[2, 3] = -88.8888
    (tmp_path / "g.gtx").write_bytes(gtx(values))
    found = open_raster(tmp_path / "g.gtx")
    block = found.cells(found.frame.pane)
    np.testing.assert_array_equal(block.cells[0][block.valid_of(0)], values[::-1][values[::-1] > -88])
    assert not block.valid_of(0)[0, 3] and block.valid_of(0).sum() == 11
    assert [float(v[0]) for v in found.frame.centres(np.array([0]), np.array([0]))] == [-26.0, 45.0]
    assert FORMATS["gtx"].nodata == found.bands[0].nodata and found.frame.registration == "node"


def test_what_is_written_is_the_published_layout(zembrel: Program) -> None:
    values = np.random.default_rng(1).normal(50, 3, (1, 5, 4)).astype("float32")
    where = Frame(by_code(4326), Affine(-26, 46, 0.25, -0.5), 4, 5, "node")
    valid = np.ones((5, 4), bool)
    valid[1, 2] = False
    save(zembrel.folder / "g.tif", raster(values, where=where, valid=valid))
    zembrel("convert", "g.tif", "--out", "g.gtx")
    expected = np.where(valid, values[0], np.float32(-88.8888))[::-1]
    assert (zembrel.folder / "g.gtx").read_bytes() == gtx(expected)
    save(zembrel.folder / "utm.tif", raster(values, where=frame(4, 5)))
    assert "degrees" in zembrel.refuses(2, "convert", "utm.tif", "--out", "u.gtx")[0]


@pytest.mark.parametrize(
    "data, why",
    [
        (b"", "not whole"),
        (b"x,y\n" * 30, "header says"),
        (gtx(np.zeros((3, 4)))[:-4], "bytes where"),
        (gtx(np.zeros((3, 4)), (44.0, np.nan, 0.5, 0.25)), "header says"),
        (gtx(np.zeros((3, 4)), (144.0, -26.0, 0.5, 0.25)), "header says"),
        (struct.pack(">4d2i", *HEAD, 2**31 - 1, 2**31 - 1), "header says"),
    ],
)
def test_other_files_of_that_name_are_refused(tmp_path: Path, data: bytes, why: str) -> None:
    (tmp_path / "g.gtx").write_bytes(data)
    with pytest.raises(InputError) as found:
        open_raster(tmp_path / "g.gtx")
    assert why in found.value.why


def separation(tmp_path: Path, head: tuple[float, ...], columns: int) -> GridSeparation:
    """Heights that grow with longitude within a turn, symmetrically to its middle."""
    lons = head[1] + head[3] * np.arange(columns)
    values = np.abs((np.broadcast_to(lons, (3, columns)) + 180) % 360 - 180)
    (tmp_path / "s.gtx").write_bytes(gtx(values, head))
    return GridSeparation("s.gtx", open_raster(tmp_path / "s.gtx"))


@pytest.mark.parametrize("west, columns", [(-180.0, 360), (0.0, 360), (0.0, 361), (20.5, 360)])
def test_a_grid_around_the_earth_has_no_seam(tmp_path: Path, west: float, columns: int) -> None:
    found = separation(tmp_path, (-1.0, west, 1.0, 1.0), columns)
    lons = np.array([-180.0, -179.75, -90.25, -0.5, 0.0, 19.75, 20.25, 179.5, 180.0])
    made = found(np.radians(lons), np.zeros(lons.size))
    np.testing.assert_allclose(made, np.abs(lons), atol=0.5)  # half a mesh, at the kinks 0 and 180
    even = (np.abs(lons) > 1) & (np.abs(lons) < 179)
    np.testing.assert_allclose(made[even], np.abs(lons)[even], atol=1e-4)


def test_off_the_grid_there_is_no_height(tmp_path: Path) -> None:
    found = separation(tmp_path, (44.0, -26.0, 1.0, 1.0), 5)
    made = found(np.radians([-24.0, -26.5, -24.0, -22.0]), np.radians([45.0, 45.0, 46.5, 46.0]))
    assert np.isnan(made).tolist() == [False, True, True, False]
