"""Shift grids: what lies between nodes, finer subgrids, the way back, the datums a file is between."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from shiftgrids import ISLAND, Piece, constant, ntv2, plane, write_ntv2
from zembrel.errors import InputError
from zembrel.geodesy.aid import Aid
from zembrel.geodesy.crs import CRS, aided
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.shiftgrid import read_shift_grid

NUMBERS = np.random.default_rng(5)
LON, LAT = NUMBERS.uniform(-25, -23, 200), NUMBERS.uniform(45, 47, 200)


def seconds(radians: np.ndarray) -> np.ndarray:
    return np.degrees(radians) * 3600


@pytest.mark.parametrize("order", ["<", ">"])
def test_between_the_nodes_shifts_are_bilinear_in_either_byte_order(tmp_path: Path, order: str) -> None:
    path = tmp_path / "m.gsb"
    path.write_bytes(ntv2([ISLAND], order=order))
    lon, lat = read_shift_grid(path).forward(np.radians(LON), np.radians(LAT))
    east, north = plane(LON, LAT)
    np.testing.assert_allclose(seconds(lon - np.radians(LON)), east, atol=1e-6)
    np.testing.assert_allclose(seconds(lat - np.radians(LAT)), north, atol=1e-6)


def test_there_and_back_is_where_one_began(tmp_path: Path) -> None:
    grid = read_shift_grid(write_ntv2(tmp_path / "m.gsb"))
    inner = (np.abs(LON + 24) < 0.99) & (np.abs(LAT - 46) < 0.99)
    lon, lat = np.radians(LON[inner]), np.radians(LAT[inner])
    back = grid.inverse(*grid.forward(lon, lat))
    assert max(np.abs(back[0] - lon).max(), np.abs(back[1] - lat).max()) < 1e-12


def test_off_the_grid_there_is_no_answer_and_the_turn_does_not_matter(tmp_path: Path) -> None:
    grid = read_shift_grid(write_ntv2(tmp_path / "m.gsb"))
    lon, lat = grid.forward(np.radians([-25.01, -24.0, 336.0, np.nan]), np.radians([46.0, 47.2, 46.0, 46.0]))
    assert np.isnan(lon).tolist() == np.isnan(lat).tolist() == [True, True, False, True]
    assert seconds(lon[2:3] - np.radians(336.0)) == pytest.approx(3.0, abs=1e-6)


def test_the_finest_subgrid_counts_whatever_their_order(tmp_path: Path) -> None:
    coarse = ISLAND._replace(shift=constant(1, 1))
    middle = Piece("TOWN", "ISLAND", (45.5, 46.5, -24.5, -23.5), 0.125, constant(2, 2))
    fine = Piece("QUAY", "TOWN", (46.0, 46.25, -24.25, -24.0), 0.0625, constant(3, 3))
    for pieces in ([coarse, middle, fine], [fine, middle, coarse]):
        (tmp_path / "m.gsb").write_bytes(ntv2(pieces))
        at = np.radians([-24.9, -24.4, -24.1]), np.radians([45.1, 45.6, 46.1])
        lon, _ = read_shift_grid(tmp_path / "m.gsb").forward(*at)
        np.testing.assert_allclose(seconds(lon - at[0]), [1, 2, 3], atol=1e-6)


def broken(change: object) -> bytes:
    whole = ntv2([ISLAND])
    return change(whole) if callable(change) else whole


@pytest.mark.parametrize(
    "change, why",
    [
        (lambda d: b"", "begins with NUM_OREC"),
        (lambda d: b"x,y\n-24,46\n", "begins with NUM_OREC"),
        (lambda d: d[:-500], "ends too early"),
        (lambda d: d[:200], "ends too early"),
        (lambda d: d[:8] + b"\x07" + d[9:], "11 records"),
        (lambda d: d.replace(b"SECONDS ", b"CUBITS  "), "CUBITS"),
        (lambda d: d.replace(b"NUM_FILE\x01", b"NUM_FILE\x02"), "subgrid 2 of 2"),
        (lambda d: d.replace(b"PARENT  NONE  ", b"PARENT  ISLAND"), "own parents"),
        (lambda d: d.replace(b"NUM_FILE\x01", b"NUM_FILE\x00"), "no grid"),
    ],
)
def test_files_that_are_no_shift_grids_are_refused(tmp_path: Path, change: object, why: str) -> None:
    path = tmp_path / "m.gsb"
    path.write_bytes(broken(change))
    with pytest.raises(InputError) as found:
        read_shift_grid(path)
    assert why in found.value.why


def by_grid(tmp_path: Path, source: int, target: int, systems: tuple[str, str], name: str = "own.gsb") -> str:
    piece = ISLAND._replace(extent=(50.0, 52.0, -3.0, -1.0), shift=constant(5, 5))
    grid = read_shift_grid(write_ntv2(tmp_path / name, piece, systems=systems))
    start: CRS = aided(by_code(source), Aid(grid))
    return operation(start, by_code(target), (-2.0, 51.0)).describe()


@pytest.mark.parametrize(
    "source, target, systems, name, said",
    [
        (4277, 4258, ("OSGB36", "ETRS89"), "own.gsb", "datum shift OSGB36 to ETRS89 by own.gsb"),
        (4258, 4277, ("OSGB36", "ETRS89"), "own.gsb", "datum shift inverse of OSGB36 to ETRS89 by own.gsb"),
        (4277, 4258, ("A", "B"), "own.gsb", "datum shift A to B by own.gsb"),
        (4277, 4258, ("?", "?"), "ostn15_ntv2_osgbtoetrs.gsb", "(2) by ostn15_ntv2_osgbtoetrs.gsb, 0.03 m"),
        (4277, 4326, ("OSGB36", "ETRS89"), "own.gsb", "by own.gsb and EPSG:"),
        (4267, 4258, ("OSGB36", "ETRS89"), "own.gsb", "EPSG:1172 NAD27"),
    ],
)  # fmt: skip
def test_the_datums_of_a_grid_are_known_by_its_name_or_its_systems(
    tmp_path: Path, source: int, target: int, systems: tuple[str, str], name: str, said: str
) -> None:
    assert said in by_grid(tmp_path, source, target, systems, name)


def test_a_datum_that_nobody_registered_is_reached_by_its_grid(tmp_path: Path) -> None:
    grid = read_shift_grid(write_ntv2(tmp_path / "m.gsb"))
    world = by_code(4326)
    own = replace(
        world, name="Marrowick 1936", code=None, datum=replace(world.datum, name="Marrowick", code=None)
    )
    there = operation(own, aided(world, Aid(grid)))
    assert there.describe() == "datum shift MARROW36 to WGS84 by m.gsb, accuracy not stated"
    x, y = there(np.array([-24.0]), np.array([46.0]))
    assert [3600 * (x[0] + 24), 3600 * (y[0] - 46)] == pytest.approx([3.0, -2.0], abs=1e-6)
    back = there.inverse(x, y)
    assert [back[0][0], back[1][0]] == pytest.approx([-24.0, 46.0], abs=1e-11)
