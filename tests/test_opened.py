"""What Python users hold: rasters that slice, features and points that go to Arrow and back; and the examples of
the docs."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import netCDF4
import numpy as np
import pyarrow as pa
import pytest
import shapely
import tifffile
import xarray

import zembrel
from points.clouds import cloud, write
from rasters import ArrayRaster, frame, random_cells, raster, save
from zembrel.errors import InputError, UsageError
from zembrel.raster.model import Band

DOCS = Path(__file__).parents[1] / "docs"


@pytest.fixture
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    cells = random_cells(2, 60, 80)
    valid = np.ones(cells.shape, bool)
    valid[:, 10:20, 30:50] = False
    bands = (Band("red", "uint8", colour="red"), Band("near", "uint8"))
    save(tmp_path / "a.tif", ArrayRaster(frame(80, 60), bands, cells, valid))
    save(tmp_path / "f.tif", raster(random_cells(60, 80).astype(np.float32), where=frame(80, 60)))
    return tmp_path


KEYS = [
    (0, slice(None), slice(None)), (slice(None), 5, slice(3, 9)), (1, slice(2, 50, 7), -1), (slice(None, None, -1), slice(40, 8, -3), slice(8, 70, 5)),
    (..., 4), (1, ...), ([1, 0, 1], slice(0, 3), [5, 2, 2]), (0,), (slice(0, 0), slice(None), slice(None)), (-1, slice(12, 14), slice(28, 34)),
]  # fmt: skip


@pytest.mark.parametrize("key", KEYS, ids=str)
def test_slices_are_those_of_an_array(here: Path, key: tuple[object, ...]) -> None:
    opened = zembrel.open("a.tif")
    whole = tifffile.imread("a.tif", key=0)
    whole = np.moveaxis(whole, -1, 0) if whole.shape[-1] == 2 else whole
    void = np.zeros(whole.shape, bool)
    void[:, 10:20, 30:50] = True
    found = opened[key]
    lists = [one if isinstance(one, list) else None for one in key]
    if any(lists):
        expected = np.ma.array(whole, mask=void)[key[0]][:, key[1]][:, :, key[2]]  # type: ignore[index]
    else:
        expected = np.ma.array(whole, mask=void)[key]  # type: ignore[index]
    assert found.shape == expected.shape
    np.testing.assert_array_equal(np.ma.getmaskarray(found), np.ma.getmaskarray(expected))
    np.testing.assert_array_equal(found.filled(0), expected.filled(0))


def test_bands_have_names_and_edges_are_edges(here: Path) -> None:
    opened = zembrel.open("a.tif")
    np.testing.assert_array_equal(opened["near"].filled(9), opened[1].filled(9))
    assert (
        opened[["near", 0]].shape == (2, 60, 80) and opened.shape == (2, 60, 80) and opened.dtype == np.uint8
    )
    for key in (2, (0, 60), (0, 0, -81), (0, 0, 0, 0)):
        with pytest.raises(IndexError):
            opened[key]
    with pytest.raises(InputError, match="no band 'blue'"):
        opened["blue"]
    with pytest.raises(UsageError, match="no value stands for them"):
        np.asarray(opened, np.uint8)
    assert np.isnan(np.asarray(opened)).sum() == 2 * 10 * 20
    assert np.asarray(zembrel.open("f.tif")).dtype == np.float32


def test_values_are_values_and_stored_numbers_an_option(tmp_path: Path) -> None:
    with netCDF4.Dataset(tmp_path / "h.nc", "w") as file:
        for name, count in (("y", 3), ("x", 4)):
            file.createDimension(name, count)
            file.createVariable(name, "f8", (name,))[:] = 30.0 * np.arange(count)
        told = file.createVariable("h", "i2", ("y", "x"), fill_value=-32768)
        told.scale_factor, told.add_offset = 0.1, 5.0
        told[:] = np.ma.array(np.arange(12.0).reshape(3, 4) * 63.5, mask=np.eye(3, 4))
    expected = xarray.open_dataset(tmp_path / "h.nc")["h"].values[::-1]  # rows from the north
    opened = zembrel.open(tmp_path / "h.nc")
    for found in (opened[0].filled(np.nan), np.asarray(opened)[0], opened.to_xarray().values[0]):
        np.testing.assert_allclose(found, expected, rtol=1e-6)
    with xarray.open_dataset(tmp_path / "h.nc", mask_and_scale=False) as numbers:
        stored = numbers["h"].values[::-1]
    np.testing.assert_array_equal(
        np.ma.getdata(opened.stored[0])[~np.isnan(expected)], stored[~np.isnan(expected)]
    )
    zembrel.convert(opened, out=tmp_path / "again.nc")
    np.testing.assert_allclose(zembrel.open(tmp_path / "again.nc")[0].filled(np.nan), expected, rtol=1e-6)


def test_xarray_and_back_is_the_same_raster(here: Path) -> None:
    lazy = zembrel.clip("a.tif", within="730000,5099500,730700,5100000")
    data = lazy.to_xarray()
    assert data.dims == ("band", "y", "x") and list(data.band.values) == ["red", "near"]
    assert data.x.values[0] == lazy.frame.bounds[0] + 5 and data.y.values[0] == lazy.frame.bounds[3] - 5
    assert data.sel(band="red").isel(y=12, x=35).isnull() and "32626" in data.crs.attrs["crs_wkt"]
    again = zembrel.from_xarray(data)
    assert again.frame == lazy.frame and [band.name for band in again.bands] == ["red", "near"]
    np.testing.assert_array_equal(again[:].filled(-1), lazy[:].astype(np.float32).filled(-1))
    turned = zembrel.from_xarray(data[:, ::-1, ::-1])
    np.testing.assert_array_equal(turned[:].filled(-1), again[:].filled(-1))
    zembrel.convert(again, out="b.tif")
    assert zembrel.compare(["a.tif", "b.tif"], at_least=("share=1",)).exit_code == 0
    uneven = xarray.DataArray(np.zeros((3, 3)), {"y": [0, 1, 3], "x": [0, 1, 2]}, ("y", "x"))
    with pytest.raises(InputError, match="not at even steps"):
        zembrel.from_xarray(uneven)
    for odd, wrong in (
        (xarray.DataArray(np.zeros((3, 3)), dims=("y", "x")), "the axis x has no coordinates"),
        (uneven.assign_coords(x=["a", "b", "c"]), "the axis x has no coordinates"),
        (uneven.astype(complex), "complex128 are no numbers"),
        (uneven.astype("datetime64[ns]"), r"datetime64\[ns\] are no numbers"),
    ):
        with pytest.raises(InputError, match=wrong):
            zembrel.from_xarray(odd)
    named = zembrel.from_xarray(
        xarray.DataArray(np.zeros((3, 3)), {"y": [2, 1, 0], "x": [0, 1, 2]}, ("y", "x")), "EPSG:32626"
    )
    assert named.frame.crs is not None and named.frame.crs.code == 32626


def test_rasters_show_themselves(here: Path) -> None:
    opened = zembrel.open("a.tif")
    assert "EPSG:32626" in repr(opened) and "80 columns x 60 rows" in repr(opened)
    shown = opened._repr_html_()
    assert "data:image/png;base64," in shown and "red, near" in shown


def test_features_go_to_arrow_and_back(here: Path) -> None:
    table = {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, "features": [
        {"type": "Feature", "properties": {"name": "a", "n": 1}, "geometry": {"type": "Point", "coordinates": [730000, 5099900]}},
        {"type": "Feature", "properties": {"name": None, "n": 2}, "geometry": None},
    ]}  # fmt: skip
    Path("p.geojson").write_text(json.dumps(table))
    opened = zembrel.open("p.geojson")
    arrow = opened.to_arrow()
    field = arrow.schema.field("geometry")
    assert field.metadata[b"ARROW:extension:name"] == b"geoarrow.wkb"
    assert json.loads(field.metadata[b"ARROW:extension:metadata"])["crs"]["id"]["code"] == 32626
    assert arrow.column("n").to_pylist() == [1, 2] and arrow.column("name").to_pylist() == ["a", None]
    again = zembrel.from_arrow(arrow)
    assert again.crs.code == 32626 and again.__geo_interface__["features"][1]["geometry"] is None
    assert shapely.geometry.shape(opened.__geo_interface__["features"][0]["geometry"]).x == 730000
    assert len(zembrel.open(again.where("n == 1").save("q.gpkg"))) == 1
    assert "2 features" in again._repr_html_() and "EPSG:32626" in repr(again)
    plain = pa.table({"geometry": [shapely.to_wkb(shapely.Point(1, 2))]})
    assert zembrel.from_arrow(plain, "EPSG:4326").crs.code == 4326
    for wrong, what in (
        (pa.table({"a": [1]}), "no column of geometries"),
        (pa.table({"geometry": [b"x"]}), "holds no WKB"),
    ):
        with pytest.raises(InputError, match=what):
            zembrel.from_arrow(wrong)


def test_points_go_to_arrow_in_parts(here: Path) -> None:
    block = cloud(1000)
    write(here / "p.laz", block, chunk=300)
    opened = zembrel.open("p.laz")
    assert len(opened) == 1000 and "Points 1,000" in repr(opened)
    table = opened.to_arrow("x", "z", "intensity")
    assert table.column_names == ["x", "z", "intensity"] and table.num_rows == 1000
    np.testing.assert_allclose(np.sort(table.column("z").to_numpy()), np.sort(block.z))
    assert [batch.num_rows for batch in opened.batches("x")] == [300, 300, 300, 100]


@pytest.mark.parametrize("page", ["python.md"])
def test_examples_of_the_docs_run(page: str, marrowick: Path, tmp_path: Path) -> None:
    blocks = re.findall(r"```python\n(.*?)```", (DOCS / page).read_text(), re.S)
    for path in marrowick.iterdir():
        (tmp_path / path.name).symlink_to(path)
    code = "\n".join(blocks)
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
