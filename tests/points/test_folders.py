"""Folders of points: neighbours, ceilings, headers mended, coordinates rounded."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest

from points.clouds import HOME, at, cloud, whole, write
from program import Program
from rasters import random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.points.files import open_points
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.vlr import Record, write_records
from zembrel.points.model import PointBlock
from zembrel.points.records import Layout


def village(side: float = 120.0, step: float = 1.5) -> PointBlock:
    """A slope with a house of 20 m whose roof lies across the middle, water in a corner, and some noise."""
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0.7, side, step), np.arange(0.7, side, step)))
    z = 0.05 * x + np.where((np.abs(x - 60) < 10) & (np.abs(y - 60) < 10), 9.0, 0.0)
    wet, noise = (x < 15) & (y < 15), np.arange(x.size) % 500 == 3
    z = np.where(noise, z + 40, z)
    return at(x, y, z, **{"class": np.where(noise, 18, np.where(wet, 9, 0))})


def halves(folder: Path, block: PointBlock) -> None:
    """The cloud cut into two files along the house."""
    folder.mkdir()
    west = block.x < block.x.min() + 59.5
    write(folder / "a.laz", block.take(west))
    write(folder / "b.laz", block.take(~west))


def by_place(block: PointBlock) -> dict[tuple[int, int, int], int]:
    places = zip(*(block.records[axis].tolist() for axis in "XYZ"), strict=True)
    return dict(zip(places, block.values("class").tolist(), strict=True))


def test_ground_sees_across_the_border_of_files_keeps_water_and_counts(zembrel: Program) -> None:
    block = village()
    write(zembrel.folder / "whole.laz", block)
    halves(zembrel.folder / "parts", block)
    said = zembrel("ground", "whole.laz", "--out", "w.laz", "--window", "30").err
    both = zembrel("ground", "parts", "--out", "made/", "--window", "30").err
    one = by_place(whole(zembrel.folder / "w.laz"))
    two = by_place(whole(zembrel.folder / "made/a.laz")) | by_place(whole(zembrel.folder / "made/b.laz"))
    assert one == two, "the house lies across the border, and is found as in one piece"
    assert "2 clouds that meet are seen as one" in both
    house = [kind for (x, y, z), kind in one.items() if z - 0.05 * x > 800 and z - 0.05 * x < 1000]
    assert house and 2 not in house
    before = by_place(block)
    assert all(one[place] == kind for place, kind in before.items() if kind in (9, 18))
    counts = {kind: sum(k == kind for k in one.values()) for kind in (2, 9, 18)}
    for text in (said, both):
        assert f"{counts[2]:,} ground" in text and f"{counts[9]} water as it was" in text
        assert f"{counts[18]} noise as it was" in text


def test_the_ceiling_counts_all_files_before_the_first_is_written(zembrel: Program) -> None:
    (zembrel.folder / "in").mkdir()
    for n in range(3):
        write(zembrel.folder / f"in/{n}.laz", cloud(20_000, seed=n))
    one = sum(p.stat().st_size for p in (zembrel.folder / "in").iterdir()) // 3
    zembrel("convert", "in/0.laz", "--out", "one.las", "--ceiling", f"{700_000}")
    what, why, _ = zembrel.refuses(
        4, "convert", "in", "--format", "las", "--out", "out/", "--ceiling", "700000"
    )
    assert "out" in what and "60,000 points in 3 files" in why and one < 700_000


@pytest.mark.parametrize("name", ["c.las", "c.laz", "c.copc.laz"])
@pytest.mark.parametrize("number", [3, 6])
def test_the_crs_of_a_header_is_mended_and_no_point_is_touched(
    zembrel: Program, name: str, number: int
) -> None:
    path = zembrel.folder / name
    if "copc" in name:
        write(zembrel.folder / "s.laz", cloud(9000, Layout(6), gps_time=np.arange(9000) / 7), by_code(4326))
        zembrel("convert", "s.laz", "--out", name)
    else:
        write(path, cloud(9000, Layout(number)), by_code(4326))
    before, points = whole(path), path.read_bytes()[open_las(path).header.points_at + 8 :]
    said = zembrel("label", name, "--crs", "EPSG:32626").err
    assert "points untouched" in said
    source = open_points(path)
    assert source.cloud.crs == HOME and not source.cloud.remarks
    np.testing.assert_array_equal(whole(path).records, before.records)
    after = path.read_bytes()[open_las(path).header.points_at + 8 :]
    assert after[: len(points) // 2] == points[: len(points) // 2]
    zembrel("label", name, "--crs", "EPSG:25829", "--out", "other.laz" if name != "c.las" else "other.las")
    assert open_points(path).cloud.crs == HOME
    zembrel.refuses(2, "label", name, "--nodata", "0")
    if "copc" in name:
        zembrel("clip", name, "--within", "circle:730050,5100050,20m", "--out", "part.laz")


def test_records_beside_the_crs_stay_and_an_extended_one_goes_out_of_force(zembrel: Program) -> None:
    path = write(zembrel.folder / "e.las", cloud(100, Layout(6)), by_code(4326))
    data = bytearray(path.read_bytes())
    far = [Record("LASF_Projection", 2112, b'GEOGCS["old"]\0', "old"), Record("mine", 5, b"abc", "kept")]
    struct.pack_into("<QI", data, 235, len(data), 2)
    path.write_bytes(bytes(data) + write_records(far, extended=True))
    zembrel("label", "e.las", "--crs", "EPSG:32626")
    source = open_las(path)
    assert source.cloud.crs == HOME
    assert [r.key for r in source.records][-2:] == [("LASF_Spec", 7), ("mine", 5)]
    assert source.records[-1].data == b"abc" and whole(path).records.size == 100


def test_points_are_no_layer_of_features(zembrel: Program) -> None:
    write(zembrel.folder / "c.las", cloud(9))
    zembrel.refuses(2, "convert", "c.las", "--out", "d.laz", "--into", "a")


def test_a_text_of_points_gets_its_crs_beside_it(zembrel: Program) -> None:
    (zembrel.folder / "p.txt").write_text("x,y,z\n700000,5100000,3\n700001,5100001,4\n")
    zembrel("label", "p.txt", "--crs", "EPSG:32626")
    assert open_points(zembrel.folder / "p.txt").cloud.crs == HOME


def test_steps_that_round_are_said_and_those_that_do_not_are_not(zembrel: Program) -> None:
    write(zembrel.folder / "c.las", cloud(500))
    said = zembrel("convert", "c.las", "--out", "r.las", "--set", "scale=0.1")
    coarse, fine = whole(zembrel.folder / "r.las"), whole(zembrel.folder / "c.las")
    moved = max(
        np.abs(coarse.x - fine.x).max(), np.abs(coarse.y - fine.y).max(), np.abs(coarse.z - fine.z).max()
    )
    assert f"coordinates rounded to steps of 0.1, by up to {moved:.2g}" in said.err and 0.04 < moved < 0.051
    assert "rounded" not in zembrel("convert", "c.las", "--out", "s.las", "--set", "scale=0.001").err


def test_verb_and_majority_decide_what_of_a_folder_is_taken(zembrel: Program) -> None:
    folder = zembrel.folder / "in"
    folder.mkdir()
    for n in range(2):
        write(folder / f"{n}.laz", cloud(50, seed=n))
    (folder / "places.geojson").write_text(PLACE)
    (folder / "readme.md").write_text("words")
    save(folder / "view.png", raster(random_cells(8, 9)))
    said = zembrel("convert", "in", "--out", "out/", "--format", "las")
    assert "2 other files in folders left alone: places.geojson, view.png" in said.err
    assert {p.name for p in (zembrel.folder / "out").iterdir()} == {"0.las", "1.las"}
    again = zembrel("convert", "in", "--out", "again/", "--format", "las", "--json").json
    assert again["left_alone"] == ["in/places.geojson", "in/view.png"]
    zembrel("rasterize", "in", "--longest", "20", "--out", "r.tif")
    zembrel("fill", "in", "--reach", "2", "--out", "f.tif")
    assert open_raster(zembrel.folder / "f.tif").frame.columns == 9, "fill is for rasters"


PLACE = (
    '{"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {}, "geometry": '
    '{"type": "Polygon", "coordinates": [[[-24, 46], [-23, 46], [-23, 47], [-24, 46]]]}}]}'
)
