"""NetCDF of every version and grid mapping, as another writer makes them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import netCDF4
import numpy as np
import pytest

from program import Program
from zembrel.errors import InputError
from zembrel.formats import open_raster

VERSIONS = ("NETCDF4", "NETCDF4_CLASSIC", "NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF3_64BIT_DATA")
VALUES = np.arange(48, dtype=np.int16).reshape(6, 8)


def write(
    path: Path, version: str = "NETCDF4", mapping: dict[str, Any] | None = None, unit: str = "m", **facts: Any
) -> None:
    """A grid of 6 x 8 cells of 1 km whose first is at 500, 700 km, in units of `unit`."""
    step = {"m": 1000.0, "km": 1.0, "kilometers": 1.0, "1000 m": 1.0}[unit]
    with netCDF4.Dataset(path, "w", format=version) as file:
        for name, size, start, sense in (("y", 6, 700, -1), ("x", 8, 500, 1)):
            file.createDimension(name, size)
            axis = file.createVariable(name, "f8", (name,))
            axis[:] = step * (start + sense * np.arange(size))
            axis.setncatts(
                {"units": unit, "standard_name": f"projection_{name}_coordinate", "axis": name.upper()}
            )
        band = file.createVariable("depth", "i2", ("y", "x"))
        band[:] = VALUES
        if mapping:
            file.createVariable("crs", "i4", ()).setncatts(mapping)
            band.grid_mapping = "crs"
        band.setncatts(facts)


UTM = {
    "grid_mapping_name": "transverse_mercator", "scale_factor_at_central_meridian": 0.9996,
    "longitude_of_central_meridian": -27.0, "latitude_of_projection_origin": 0.0, "false_easting": 500000.0,
    "false_northing": 0.0,
}  # fmt: skip


@pytest.mark.parametrize("version", VERSIONS)
def test_every_version_is_read(tmp_path: Path, version: str) -> None:
    write(tmp_path / "v.nc", version, UTM, units="m")
    source = open_raster(tmp_path / "v.nc")
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], VALUES)
    assert source.bands[0].unit == "m" and source.frame.bounds == (499500, 694500, 507500, 700500)
    assert source.frame.crs is not None


@pytest.mark.parametrize("unit", ["m", "km", "kilometers", "1000 m"])
def test_axes_count_in_their_units(tmp_path: Path, unit: str) -> None:
    write(tmp_path / "u.nc", mapping=UTM, unit=unit)
    assert open_raster(tmp_path / "u.nc").frame.bounds == (499500, 694500, 507500, 700500)


@pytest.mark.parametrize("unit", ["degrees_{}", "degree_{}", "degree{:.1}", "degrees{:.1}", "degree_{:.1}"])
def test_axes_are_known_by_any_spelling_of_degrees(tmp_path: Path, unit: str) -> None:
    with netCDF4.Dataset(tmp_path / "d.nc", "w") as file:
        for name, size, way in (("down", 6, "North"), ("along", 8, "East")):
            file.createDimension(name, size)
            axis = file.createVariable(name, "f8", (name,))
            axis[:], axis.units = 40 + np.arange(size), unit.format(way)
        file.createVariable("depth", "i2", ("along", "down"))[:] = VALUES.T
    source = open_raster(tmp_path / "d.nc")
    assert source.frame.crs is not None and source.frame.bounds == (39.5, 39.5, 47.5, 45.5)
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], VALUES[::-1])


# x, y of (-24 E, 81 or 46 N) by the formulas of Snyder on the sphere of 6,371,000 m, worked out below
RADIUS = 6_371_000.0
LON, LAT = np.radians(-24.0), np.radians(46.0)


def stereographic() -> tuple[float, float]:
    true = np.radians(70.0)
    scale = (1 + np.sin(true)) / 2
    rho = 2 * RADIUS * scale * np.tan(np.pi / 4 - LAT / 2)
    return rho * np.sin(LON - np.radians(-45)), -rho * np.cos(LON - np.radians(-45))


def sinusoidal() -> tuple[float, float]:
    return RADIUS * (LON - np.radians(-20)) * np.cos(LAT), RADIUS * LAT


def equidistant() -> tuple[float, float]:
    lon0, lat0 = np.radians(-20), np.radians(40)
    c = np.arccos(np.sin(lat0) * np.sin(LAT) + np.cos(lat0) * np.cos(LAT) * np.cos(LON - lon0))
    k = RADIUS * c / np.sin(c)
    north = np.cos(lat0) * np.sin(LAT) - np.sin(lat0) * np.cos(LAT) * np.cos(LON - lon0)
    return k * np.cos(LAT) * np.sin(LON - lon0), k * north


MAPPINGS = {
    "polar_stereographic": (
        {"standard_parallel": 70.0, "straight_vertical_longitude_from_pole": -45.0,
         "latitude_of_projection_origin": 90.0}, stereographic),
    "sinusoidal": ({"longitude_of_projection_origin": -20.0}, sinusoidal),
    "azimuthal_equidistant": (
        {"latitude_of_projection_origin": 40.0, "longitude_of_projection_origin": -20.0}, equidistant),
}  # fmt: skip


@pytest.mark.parametrize("name", MAPPINGS)
def test_grid_mappings_are_those_of_the_textbook(tmp_path: Path, name: str) -> None:
    facts, formula = MAPPINGS[name]
    facts = {
        "grid_mapping_name": name,
        "earth_radius": RADIUS,
        "false_easting": 0.0,
        "false_northing": 0.0,
    } | facts
    write(tmp_path / "m.nc", mapping=facts)
    crs = open_raster(tmp_path / "m.nc").frame.crs
    x, y = crs.from_geographic(np.array([LON]), np.array([LAT]))  # type: ignore[union-attr]
    np.testing.assert_allclose([x[0], y[0]], formula(), atol=1e-3)


def test_an_oblique_mercator_is_the_registrys(tmp_path: Path) -> None:
    """EPSG:29873, whose grid mapping CF can name but for the angle of its grid, on its own ellipsoid."""
    facts = {"grid_mapping_name": "oblique_mercator", "azimuth_of_central_line": 30.0,
             "latitude_of_projection_origin": 40.0, "longitude_of_projection_origin": -24.0,
             "scale_factor_at_projection_origin": 0.9996, "false_easting": 1000.0, "false_northing": 2000.0}  # fmt: skip
    write(tmp_path / "o.nc", mapping=facts)
    crs = open_raster(tmp_path / "o.nc").frame.crs
    x, y = crs.from_geographic(np.radians([-24.0, -23.99]), np.radians([40.0, 40.0]))  # type: ignore[union-attr]
    np.testing.assert_allclose([x[0], y[0]], [1000, 2000], atol=1e-3)
    assert 850 < x[1] - x[0] < 856 and abs(y[1] - y[0]) < 2, "grid north is north at the centre"


@pytest.mark.parametrize("name", ["geostationary", "vertical_perspective"])
def test_what_cannot_be_computed_is_refused_by_name(zembrel: Program, name: str) -> None:
    write(zembrel.folder / "g.nc", mapping={"grid_mapping_name": name})
    assert name in zembrel("describe", "g.nc").out
    _, why, _ = zembrel.refuses(3, "reproject", "g.nc", "--crs", "EPSG:32626", "--out", "x.tif")
    what = zembrel("reproject", "g.nc", "--crs", "EPSG:32626", "--out", "x.tif", code=3).err
    assert name in what or name in why


def test_numbers_out_of_the_valid_range_are_nothing(tmp_path: Path) -> None:
    for n, facts in enumerate(
        ({"valid_range": np.array([5, 40], "i2")}, {"valid_min": np.int16(5), "valid_max": np.int16(40)})
    ):
        write(tmp_path / f"r{n}.nc", mapping=UTM, **facts)
        source = open_raster(tmp_path / f"r{n}.nc")
        np.testing.assert_array_equal(
            source.cells(source.frame.pane).valid_of(0), (VALUES >= 5) & (VALUES <= 40)
        )


def test_coordinates_of_cells_are_no_bands_and_a_bent_grid_is_refused_by_name(zembrel: Program) -> None:
    path = zembrel.folder / "b.nc"
    with netCDF4.Dataset(path, "w") as file:
        for name, size in (("j", 6), ("i", 8)):
            file.createDimension(name, size)
        for name, unit in (("lon", "degrees_east"), ("lat", "degrees_north")):
            held = file.createVariable(name, "f4", ("j", "i"))
            held[:] = VALUES / 100
            held.units = unit
        band = file.createVariable("depth", "i2", ("j", "i"))
        band[:] = VALUES
        band.coordinates = "lon lat"
    assert [band.name for band in open_raster(path).bands] == ["depth"]
    _, why, _ = zembrel.refuses(3, "reproject", "b.nc", "--crs", "EPSG:32626", "--out", "x.tif")
    assert "lon and lat" in why + zembrel("describe", "b.nc").out


def test_a_cut_file_of_version_3_is_an_error_of_ours(tmp_path: Path) -> None:
    write(tmp_path / "c.nc", "NETCDF3_CLASSIC", UTM)
    data = (tmp_path / "c.nc").read_bytes()
    for length in (5, 40, 200):
        (tmp_path / f"c{length}.nc").write_bytes(data[:length])
        with pytest.raises(InputError):
            source = open_raster(tmp_path / f"c{length}.nc")
            source.cells(source.frame.pane)
