"""NetCDF-4, HDF5 and Zarr: read alike by other readers, and their files read alike here."""

from __future__ import annotations

from pathlib import Path

import h5py
import netCDF4
import numpy as np
import pytest
import xarray as xr
import xrlint.all as xrlint
import zarr

from program import Program
from rasters import frame, opened, random_cells, raster, save
from zembrel.errors import InputError, UsageError
from zembrel.formats import layers_of, open_raster
from zembrel.formats.cf.gridmapping import crs_of, mapping_attributes
from zembrel.geodesy.crs import same
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import pick_bands

LEGEND = Legend.of([LegendEntry(1, "bare rock", (1, 2, 3)), LegendEntry(4, "heath", (200, 100, 0))])
STORES = ("g.nc", "g.zarr", "g.zarr.zip")
# Warnings of the checker that ask for more than CF does: who made the data, and names CF has no word for.
BEYOND = {"content-desc", "var-desc", "no-empty-attrs", "var-missing-data"}


@pytest.mark.parametrize("name", STORES)
@pytest.mark.parametrize("version", ["2", "3"])
def test_other_readers_see_the_same_cells_and_places(tmp_path: Path, name: str, version: str) -> None:
    cells, valid = random_cells(2, 700, 530, kind="int16"), random_cells(700, 530, seed=2) > 40
    cells[cells == -999] = 0
    where = frame(530, 700, cell=2.5)
    settings = {} if name == "g.nc" else {"version": version}
    path = save(tmp_path / name, raster(cells, valid, where, nodata=-999, unit="m"), **settings)
    data = opened(path)
    for band, wanted in zip(("band1", "band2"), cells, strict=True):
        found = data[band].values
        np.testing.assert_array_equal(np.isnan(found), ~valid)
        np.testing.assert_array_equal(found[valid], wanted[valid])
        assert data[band].attrs["units"] == "m"
    x, y = where.centres(np.arange(530.0), np.zeros(1))[0], where.centres(np.zeros(1), np.arange(700.0))[1]
    np.testing.assert_array_equal(data.x, x)
    np.testing.assert_array_equal(data.y, y)
    np.testing.assert_array_equal(data.x_bounds[:, 0], x - 1.25)
    assert data.crs.attrs["grid_mapping_name"] == "transverse_mercator"
    assert data.crs.attrs["longitude_of_central_meridian"] == -27


def test_the_netcdf_library_reads_it(tmp_path: Path) -> None:
    cells = random_cells(600, 520, kind="float32")
    valid = random_cells(600, 520, seed=3) > 90
    path = save(tmp_path / "g.nc", raster(cells, valid))
    with netCDF4.Dataset(path) as data:
        band = data["band1"]
        np.testing.assert_array_equal(np.ma.getmaskarray(band[:]) | np.isnan(band[:].filled(0)), ~valid)
        np.testing.assert_array_equal(band[:].filled(0)[valid], cells[valid])
        assert band.filters()["zlib"] and band.chunking() == [512, 512] and data.Conventions == "CF-1.11"


@pytest.mark.parametrize("name", STORES)
@pytest.mark.parametrize("code", [32626, 4326])
def test_a_cf_checker_finds_no_error(tmp_path: Path, name: str, code: int) -> None:
    where = Frame(by_code(code), Affine(-24.0, 46.0, 0.01, -0.01), 60, 50)
    legend = raster(random_cells(50, 60), where=where, legend=LEGEND)
    heights = raster(random_cells(50, 60, kind="float32"), where=where, unit="m")
    for source in (legend, heights):
        path = save(tmp_path / source.bands[0].type / name, source)
        linter = xrlint.new_linter("recommended")
        found = linter.validate(opened(path)).messages
        # it takes the numbers of a typed array for none, which CF asks flag_values to be
        faults = [
            m for m in found if m.rule_id != "var-flags" and (m.severity == 2 or m.rule_id not in BEYOND)
        ]
        faults = [m for m in faults if not (m.rule_id == "var-units" and source is legend)]
        assert not faults, [(m.rule_id, m.message, m.node_path) for m in faults]


@pytest.mark.parametrize("name", STORES)
def test_legends_scales_and_units_come_back(tmp_path: Path, name: str) -> None:
    where = frame(40, 30)
    coded = open_raster(save(tmp_path / "l" / name, raster(random_cells(30, 40), where=where, legend=LEGEND)))
    assert coded.bands[0].legend == LEGEND
    flags = opened(tmp_path / "l" / name)["band1"].attrs
    assert flags["flag_meanings"] == "bare_rock heath" and list(flags["flag_values"]) == [1, 4]
    packed = raster(random_cells(30, 40, kind="int16"), where=where, scale=0.5, offset=10.0, unit="m")
    found = open_raster(save(tmp_path / "s" / name, packed)).bands[0]
    assert (found.scale, found.offset, found.unit) == (0.5, 10.0, "m")
    np.testing.assert_allclose(opened(tmp_path / "s" / name)["band1"].values, packed.values[0] * 0.5 + 10)


def test_a_zarr_store_holds_itself_coarser(tmp_path: Path) -> None:
    rows, cols = np.mgrid[:1500, :1300]
    path = save(tmp_path / "g.zarr", raster((rows + cols).astype(np.float32)))
    read = open_raster(path)
    half = read.coarser(2)  # type: ignore[attr-defined]
    assert (half.frame.columns, half.frame.rows) == (650, 750) and half.frame.cell == (20.0, 20.0)
    found = half.cells(half.frame.pane).cells[0]
    np.testing.assert_array_equal(found, (rows + cols)[::2, ::2] + 1)  # the mean of 0, 1, 1 and 2 more
    quarter = read.coarser(9)  # type: ignore[attr-defined]
    assert quarter.frame.columns == 325
    np.testing.assert_array_equal(zarr.open(path, mode="r")["1/band1"][:], found)


@pytest.fixture
def series(tmp_path: Path) -> Path:
    """Three days of two quantities on a lattice whose rows run to the north, as others write them."""
    data = xr.Dataset(
        {
            "depth": (("time", "lat", "lon"), np.arange(3 * 4 * 5, dtype=np.float32).reshape(3, 4, 5)),
            "flow": (("time", "level", "lat", "lon"), np.arange(3 * 2 * 4 * 5.0).reshape(3, 2, 4, 5)),
        },
        {"time": np.array(["2026-05-01", "2026-05-02", "2026-05-04"], "datetime64[ns]"), "level": [10.0, 20.0],
         "lat": [45.0, 45.5, 46.0, 46.5], "lon": [-24.0, -23.5, -23.0, -22.5, -22.0]},
    )  # fmt: skip
    data.lat.attrs.update(units="degrees_north", standard_name="latitude")
    data.lon.attrs.update(units="degrees_east", standard_name="longitude")
    data.to_netcdf(tmp_path / "s.nc", engine="h5netcdf")
    return tmp_path / "s.nc"


def test_slices_are_chosen_by_name(series: Path) -> None:
    assert set(layers_of(series)) == {"depth", "flow"}
    days = open_raster(series, "depth")
    assert [band.name for band in days.bands] == [f"depth 2026-05-0{day}" for day in (1, 2, 4)]
    assert pick_bands(days.bands, "2026-05-04") == pick_bands(days.bands, "depth 2026-05-04") == (2,)
    assert days.frame.affine == Affine(-24.25, 46.75, 0.5, -0.5) and same(days.frame.crs, by_code(4326))
    wanted = np.arange(60.0).reshape(3, 4, 5)[:, ::-1]
    np.testing.assert_array_equal(days.cells(days.frame.pane).cells, wanted)
    part = days.cells(Pane(1, 2, 3, 4)).cells
    np.testing.assert_array_equal(part, wanted[:, 1:3, 2:4])
    one = open_raster(series, "flow[time=2026-05-04,level=20]")
    np.testing.assert_array_equal(
        one.cells(one.frame.pane).cells[0], np.arange(120.0).reshape(3, 2, 4, 5)[2, 1, ::-1]
    )
    for layer, word in (
        ("depht", "no layer 'depht'"),
        ("depth[time=2027-01-01]", "no time=2027-01-01"),
        ("depth[tide=1]", "no dimension 'tide'"),
    ):
        with pytest.raises(InputError, match=word):
            open_raster(series, layer)


def test_plain_hdf5_is_read_by_path(tmp_path: Path) -> None:
    cells = random_cells(20, 30, kind="uint16")
    with h5py.File(tmp_path / "p.h5", "w") as file:
        file["survey/heights"] = cells
        file["note"] = "text"
    assert layers_of(tmp_path / "p.h5") == ["survey/heights"]
    read = open_raster(tmp_path / "p.h5", "survey/heights")
    np.testing.assert_array_equal(read.cells(read.frame.pane).cells[0], cells)
    assert "no coordinates" in read.remarks[0]  # type: ignore[attr-defined]


@pytest.mark.parametrize("code", [4326, 32626, 3035, 2154, 3408, 27700, 3413, 31287, 5880, 3857, 2193, 3395])
def test_grid_mappings_name_the_crs_even_without_wkt(code: int) -> None:
    crs = by_code(code)
    attributes = mapping_attributes(crs)
    assert same(crs_of(attributes), crs)
    if "grid_mapping_name" not in attributes:
        return
    found = crs_of({key: value for key, value in attributes.items() if key != "crs_wkt"})
    lon, lat = np.radians([-23.5, 3.0]), np.radians([46.0, 48.0])
    np.testing.assert_allclose(found.from_geographic(lon, lat), crs.from_geographic(lon, lat), atol=1e-6)  # type: ignore[union-attr]


@pytest.mark.parametrize("name", ["g.nc", "g.zarr"])
def test_broken_ones_are_refused_in_three_lines(tmp_path: Path, name: str) -> None:
    program = Program(tmp_path)
    path = save(tmp_path / name, raster(random_cells(600, 600)))
    if path.is_file():
        whole = path.read_bytes()
        for kept in (8, 100, len(whole) // 2):
            path.write_bytes(whole[:kept])
            assert program.refuses(3, "convert", name, "--out", "x.tif")
        path.write_bytes(b"\x89HDF\r\n\x1a\n" + b"not what it says" * 99)
    else:
        for inner in path.rglob("zarr.json"):
            inner.write_text("{")
    assert "no sound" in program.refuses(3, "describe", name)[0]


def test_settings_and_turned_frames_are_refused(tmp_path: Path) -> None:
    turned = Frame(by_code(32626), Affine(0.0, 0.0, 1.0, -1.0, 0.2, 0.2), 9, 9)
    for name in STORES:
        with pytest.raises(UsageError, match="turned"):
            save(tmp_path / name, raster(random_cells(9, 9), where=turned))
    for name, settings in (
        ("a.nc", {"compress": "zip"}),
        ("a.zarr", {"version": "4"}),
        ("a.zarr", {"overviews": "x"}),
    ):
        with pytest.raises(UsageError):
            save(tmp_path / name, raster(random_cells(9, 9)), **settings)
