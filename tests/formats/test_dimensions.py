"""Time, level and other dimensions, several variables, and numbers of other kinds, through the verbs."""

from __future__ import annotations

import math
from pathlib import Path

import h5py
import netCDF4
import numpy as np
import pytest
import tifffile
import xarray as xr
import zarr

from program import Program
from rasters import opened, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.geodesy.crs import Conversion, ProjectedCRS, same
from zembrel.geodesy.projections.methods import ROTATED_POLE
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.units import DEGREE
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane

DAYS = np.array([0, 1.25, 30])
VALUES = np.arange(3 * 2 * 40 * 50, dtype=np.float32).reshape(3, 2, 40, 50)


@pytest.fixture
def weather(zembrel: Program) -> Path:
    """Two variables over time (a calendar without leap days, with bounds), one with levels, and one plain."""
    with netCDF4.Dataset(zembrel.folder / "w.nc", "w") as file:
        for name, values, facts in (
            ("time", DAYS, {"units": "days since 2028-02-28", "calendar": "noleap", "axis": "T",
                            "standard_name": "time", "bounds": "time_ends"}),
            ("depth", [10, 200], {"units": "m", "positive": "down", "axis": "Z"}),
            ("lat", 45 + np.arange(40) / 10, {"units": "degrees_north"}),
            ("lon", -24 + np.arange(50) / 10, {"units": "degrees_east"}),
        ):  # fmt: skip
            file.createDimension(name, len(values))
            held = file.createVariable(name, "f8" if name != "depth" else "i4", (name,))
            held[:] = values
            held.setncatts(facts)
        file.createDimension("two", 2)
        file.createVariable("time_ends", "f8", ("time", "two"))[:] = np.stack([DAYS, DAYS + 1], axis=1)
        salt = file.createVariable("salt", "f4", ("time", "depth", "lat", "lon"), fill_value=-1)
        salt[:] = VALUES
        salt.units = "g kg-1"
        file.createVariable("wave", "i2", ("time", "lat", "lon"))[:] = VALUES[:, 0] // 10
        file.createVariable("bed", "f8", ("lat", "lon"))[:] = VALUES[0, 0]
    return zembrel.folder / "w.nc"


def check_axes(data: xr.Dataset) -> None:
    """The coordinates as they were in the source, by a reader that decodes them."""
    times = [str(t) for t in data.time.values]
    assert times == ["2028-02-28 00:00:00", "2028-03-01 06:00:00", "2028-03-30 00:00:00"], "no 29 February"
    assert data.time.encoding["calendar"] == "noleap" and data.time.attrs["standard_name"] == "time"
    ends = data["time_bounds"]
    assert str(ends.values[1, 1]) == "2028-03-02 06:00:00"
    if "depth" in data.coords:
        assert list(data.depth.values) == [10, 200] and data.depth.attrs["positive"] == "down"


@pytest.mark.parametrize("ending", [".nc", ".zarr"])
@pytest.mark.parametrize("verb", ["convert", "clip", "resample", "reproject"])
def test_dimensions_survive(zembrel: Program, weather: Path, ending: str, verb: str) -> None:
    more = {
        "clip": ["--within", "-23,46,-21,48"],
        "resample": ["--cell", "0.2"],
        "reproject": ["--crs", "EPSG:32626", "--cell", "9000", "--method", "nearest"],
    }
    said = zembrel(verb, "w.nc", "--layer", "salt", *more.get(verb, []), "--out", f"out{ending}")
    data = opened(zembrel.folder / f"out{ending}")
    check_axes(data)
    assert data.salt.dims[:2] == ("time", "depth") and data.salt.attrs["units"] == "g kg-1", said.out
    if verb == "convert":
        np.testing.assert_array_equal(data.salt.values, VALUES[:, :, ::-1])
    if verb == "clip":
        wanted = xr.open_dataset(weather).salt.sel(lat=slice(45.99, 48.01), lon=slice(-23.01, -20.99))
        inner = data.salt.sel(lat=slice(47.9, 46.05), lon=slice(-22.95, -21.05))
        np.testing.assert_array_equal(
            inner.values[:, :, ::-1], wanted.sel(lat=slice(46.05, 47.95), lon=slice(-22.95, -21.05)).values
        )
    steps = data.salt.values[1:] - data.salt.values[:-1]
    assert np.nanmax(np.abs(steps - 4000)) < 0.01, "each day is 4000 above the one before, and stays so"


def test_a_day_stays_a_day(zembrel: Program, weather: Path) -> None:
    zembrel("convert", "w.nc", "--layer", "wave", "--bands", "2028-03-30", "--out", "day.nc")
    data = opened(zembrel.folder / "day.nc")
    assert data.wave.dims[0] == "time" and str(data.time.values[0]) == "2028-03-30 00:00:00"
    np.testing.assert_array_equal(data.wave.values[0], VALUES[2, 0, ::-1] // 10)
    zembrel("convert", "w.nc", "--layer", "wave", "--bands", "2028-02-28", "--out", "first.nc")
    zembrel("stack", "first.nc", "day.nc", "--out", "both.nc")
    assert [str(t)[:10] for t in opened(zembrel.folder / "both.nc").time.values] == [
        "2028-02-28",
        "2028-03-30",
    ]


def test_bands_of_other_formats_are_named_by_variable_and_place(zembrel: Program, weather: Path) -> None:
    zembrel("convert", "w.nc", "--layer", "salt[depth=200]", "--out", "s.tif")
    names = [band["name"] for band in zembrel("describe", "s.tif", "--json").json["layers"][0]["bands"]]
    assert names == ["salt 2028-02-28", "salt 2028-03-01T06:00:00", "salt 2028-03-30"]


@pytest.mark.parametrize("ending", [".nc", ".zarr"])
@pytest.mark.parametrize("layer", ["*", "bed,wave", "b*,wave"])
def test_several_variables_go_through_at_once(
    zembrel: Program, weather: Path, layer: str, ending: str
) -> None:
    zembrel("convert", "w.nc", "--layer", layer, "--out", f"all{ending}")
    data = opened(zembrel.folder / f"all{ending}")
    check_axes(data)
    assert set(data.data_vars) - {"lat_bounds", "lon_bounds", "time_bounds"} == (
        {"salt", "wave", "bed"} if layer == "*" else {"wave", "bed"}
    )
    np.testing.assert_array_equal(data.wave.values, VALUES[:, 0, ::-1] // 10)
    np.testing.assert_array_equal(data.bed.values, VALUES[0, 0, ::-1])
    again = open_raster(zembrel.folder / f"all{ending}")
    assert len(again.bands) == (10 if layer == "*" else 4), "our own file is read whole"
    assert [band.type for band in again.bands if band.name == "bed"] == ["float64"]


def test_layers_that_do_not_share_cells_are_refused_and_so_is_an_idle_pattern(zembrel: Program) -> None:
    with h5py.File(zembrel.folder / "p.h5", "w") as file:
        file["a"], file["b"] = np.zeros((4, 5)), np.zeros((6, 5))
    what, _, _ = zembrel.refuses(3, "describe", "p.h5", "--layer", "a,b")
    assert "b does not share the cells of a" in what
    what, why, _ = zembrel.refuses(3, "describe", "p.h5", "--layer", "z*")
    assert "no layer fits 'z*'" in what and "a, b" in why


def test_numbers_of_other_kinds(tmp_path: Path) -> None:
    """Truth values and half floats fit types of ours; complex numbers do not, and are called what they are."""
    half = np.linspace(-2, 2, 20).astype(np.float16).reshape(4, 5)
    with h5py.File(tmp_path / "k.h5", "w") as file:
        file["yes"], file["half"], file["wave"] = half > 0, half, half.astype(np.complex64)
        file["text"] = np.full((4, 5), b"abc")
    for name, kind, wanted in (("yes", "uint8", half > 0), ("half", "float32", half)):
        found = open_raster(tmp_path / "k.h5", name)
        assert found.bands[0].type == kind
        np.testing.assert_array_equal(found.cells(Pane(0, 0, 4, 5)).cells[0], wanted)
    for name, word in (("wave", "complex numbers"), ("text", "text")):
        with pytest.raises(InputError) as caught:
            open_raster(tmp_path / "k.h5", name)
        assert f"{name} of {word}" in caught.value.why and "plain numbers" in caught.value.what


POLE = {"grid_mapping_name": "rotated_latitude_longitude", "grid_north_pole_latitude": 39.25,
        "grid_north_pole_longitude": -162.0, "north_pole_grid_longitude": 10.0, "earth_radius": 6371229.0}  # fmt: skip


def turned(lon: float, lat: float) -> np.ndarray:
    """Rotated longitude and latitude by matrices: about the axis, then towards the new pole, then within."""
    a, b = np.radians([lon, lat])
    place = np.array([np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)])
    east = math.radians(POLE["grid_north_pole_longitude"])
    down = math.radians(90 - POLE["grid_north_pole_latitude"])
    c, s, u, v = math.cos(east), math.sin(east), math.cos(down), math.sin(down)
    about = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]])
    over = np.array([[u, 0, -v], [0, 1, 0], [v, 0, u]])
    x, y, z = over @ about @ place
    own = np.degrees(np.arctan2(y, x)) - 180 + POLE["north_pole_grid_longitude"]
    return np.array([(own + 180) % 360 - 180, np.degrees(np.arcsin(z))])


def test_a_rotated_pole_is_that_of_matrices_and_comes_back(zembrel: Program) -> None:
    path = zembrel.folder / "r.nc"
    with netCDF4.Dataset(path, "w") as file:
        for name, size, start in (("rlat", 30, -20.0), ("rlon", 40, -15.0)):
            file.createDimension(name, size)
            held = file.createVariable(name, "f8", (name,))
            held[:] = start + 0.5 * np.arange(size)
            held.setncatts(
                {"units": "degrees", "standard_name": f"grid_{'lat' if 'lat' in name else 'long'}itude"}
            )
        file.createVariable("pole", "i4", ()).setncatts(POLE)
        band = file.createVariable("t", "f4", ("rlat", "rlon"))
        band[:] = np.arange(1200).reshape(30, 40)
        band.grid_mapping = "pole"
    crs = open_raster(path).frame.crs
    for lon, lat in ((10, 50), (-4, 38), (0, 89.9), (25, 61.5)):
        x, y = crs.from_geographic(np.radians([lon]), np.radians([lat]))  # type: ignore[union-attr]
        np.testing.assert_allclose([x[0], y[0]], turned(lon, lat), atol=1e-9)
        back = crs.to_geographic(x, y)  # type: ignore[union-attr]
        np.testing.assert_allclose(np.degrees([back[0][0], back[1][0]]), [lon, lat], atol=1e-9)
    zembrel(
        "reproject", "r.nc", "--crs", "EPSG:4326", "--cell", "0.25", "--method", "nearest", "--out", "g.tif"
    )
    plain = open_raster(zembrel.folder / "g.tif")
    cells = plain.cells(plain.frame.pane)
    x, y = plain.frame.centres(np.array([60.0]), np.array([40.0]))
    u, v = turned(x[0], y[0])
    row, column = round((v + 20) / 0.5), round((u + 15) / 0.5)
    assert cells.cells[0, 40, 60] == row * 40 + column
    zembrel("clip", "r.nc", "--within", "-10,-15,-5,-10", "--out", "c.nc")
    again = opened(zembrel.folder / "c.nc")
    assert again.crs.attrs["grid_mapping_name"] == POLE["grid_mapping_name"]
    assert again.crs.attrs["grid_north_pole_latitude"] == 39.25
    zembrel("convert", "c.nc", "--out", "c.zarr")
    assert open_raster(zembrel.folder / "c.zarr").frame.crs == open_raster(zembrel.folder / "c.nc").frame.crs
    zembrel("convert", "c.nc", "--out", "c.tif")
    assert same(
        open_raster(zembrel.folder / "c.tif").frame.crs, open_raster(zembrel.folder / "c.nc").frame.crs
    )
    assert tifffile.TiffFile(zembrel.folder / "c.tif").geotiff_metadata["GTModelTypeGeoKey"] == 32767  # type: ignore[index]


def test_many_days_are_described_in_a_line(zembrel: Program) -> None:
    days = xr.Dataset(
        {
            "wave": (("time", "y", "x"), np.zeros((40, 4, 5)), {"units": "m"}),
            "bed": (("y", "x"), np.zeros((4, 5))),
        },
        {"time": np.arange("2028-02-01", "2028-03-12", dtype="datetime64[D]").astype("datetime64[ns]")},
    )
    days.to_netcdf(zembrel.folder / "d.nc")
    said = zembrel("describe", "d.nc", "--layer", "bed,wave").out
    assert "41 float64: bed, wave 2028-02-01 to 2028-03-11 (40) in m" in said
    assert "holds bed too" in zembrel("describe", "d.nc").out


@pytest.mark.parametrize("ending", [".nc", ".zarr"])
@pytest.mark.parametrize(
    "places, facts",
    [
        (["red", "green", "far red"], {"long_name": "colour"}),
        ([0.0, np.nan, 2.0], {"units": "days since 2000-01-01"}),
        ([0.0, 1e300, 2.0], {"units": "days since 2000-01-01"}),
        ([0, 1, 2], {"units": "days since the flood", "calendar": "lunar"}),
    ],
)
def test_odd_coordinates_survive_too(
    zembrel: Program, places: list[object], facts: dict[str, str], ending: str
) -> None:
    data = xr.Dataset({"w": (("k", "y", "x"), VALUES[:, 0, :4, :5])}, {"k": ("k", places, facts)})
    data.to_netcdf(
        zembrel.folder / "o.nc",
        engine="netcdf4",
        encoding={"k": {"_FillValue": None}} if places[0] == 0 else {},
    )
    zembrel("convert", "o.nc", "--out", f"p{ending}")
    path = zembrel.folder / f"p{ending}"
    found = xr.open_dataset(path, decode_times=False, **({} if ending == ".nc" else {"engine": "zarr"}))
    assert found.w.dims[0] == "k" and found.w.values[1, 0, 0] == VALUES[1, 0, 0, 0]
    np.testing.assert_array_equal(found.k.values, np.array(places, found.k.values.dtype))


def test_attributes_that_are_trees_are_left_out(zembrel: Program) -> None:
    group = zarr.open_group(zembrel.folder / "t.zarr", mode="w", zarr_format=2)
    for name, values in (
        ("y", np.arange(4.0)),
        ("x", np.arange(5.0)),
        ("k", np.arange(3)),
        ("w", VALUES[:, 0, :4, :5]),
    ):
        made = group.create_array(name, shape=values.shape, dtype=values.dtype)
        made[...] = values
        made.attrs["_ARRAY_DIMENSIONS"] = ["k", "y", "x"] if values.ndim == 3 else [name]
        made.attrs["tree"] = {"a": [1, {"b": 2}]}
        made.attrs["long_name"] = name
    zembrel("convert", "t.zarr", "--out", "u.zarr")
    assert opened(zembrel.folder / "u.zarr").k.attrs["long_name"] == "k"


def test_a_mosaic_of_other_days_is_of_no_day(zembrel: Program, weather: Path) -> None:
    for n, day in enumerate(("2028-02-28", "2028-03-30")):
        zembrel("convert", "w.nc", "--layer", "wave", "--bands", day, "--out", f"d{n}.nc")
    zembrel("mosaic", "d0.nc", "d1.nc", "--out", "m.nc")
    assert "time" not in opened(zembrel.folder / "m.nc").dims, "of which day would it be?"
    zembrel("mosaic", "d0.nc", "d0.nc", "w.nc", "--layer", "wave", "--bands", "1", "--out", "same.nc")
    assert str(opened(zembrel.folder / "same.nc").time.values[0]) == "2028-02-28 00:00:00"


@pytest.mark.parametrize("name", ["r.asc", "r.csv", "r.png"])
def test_a_rotated_pole_has_no_prj_and_stops_no_format(zembrel: Program, name: str) -> None:
    rotated = ProjectedCRS(
        "rotated",
        by_code(4326),
        Conversion("turn", ROTATED_POLE, ((-13, 0.0), (-12, 0.3), (-11, 0.7))),
        DEGREE,
    )
    where = Frame(rotated, Affine(1.0, 2.0, 0.5, -0.5), 9, 8)
    save(zembrel.folder / "r.tif", raster(random_cells(8, 9), where=where))
    zembrel("convert", "r.tif", "--out", name)
    assert not list(zembrel.folder.glob("*.prj")) and (zembrel.folder / name).exists()
