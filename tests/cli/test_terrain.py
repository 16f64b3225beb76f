"""terrain on the demo's relief: what it makes, names and says."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
import tifffile

from program import Program


@pytest.fixture
def island(zembrel: Program, marrowick: Path) -> Program:
    zembrel("mosaic", *sorted((marrowick / "dem").glob("r*.tif")), "--cell", "20m", "--out", "relief.tif")
    return zembrel


def test_bands_come_in_the_order_in_which_they_are_named(island: Program) -> None:
    words = ("--of", "aspect", "--of", "curvature", "--of", "slope", "--in", "percent", "--out", "t.tif")
    said = island("terrain", "relief.tif", *words)
    assert "heights in m" in said.err and "from grid north" in said.err
    bands = island("describe", "t.tif", "--json").json["layers"][0]["bands"]
    names = ["aspect", "curvature_profile", "curvature_plan", "curvature_mean", "slope"]
    assert [(band["name"], band["type"]) for band in bands] == [(name, "float32") for name in names]
    assert [band["unit"] for band in bands] == ["deg", "1/m", "1/m", "1/m", "%"]


def test_the_hours_of_a_day_are_bands_that_grow_light_and_dark(island: Program) -> None:
    said = island("terrain", "relief.tif", "--of", "hillshade", "--sun-at", "2027-06-21", "--hours", "2-22", "--cast",
                  "--out", "film.tif")  # fmt: skip
    assert "21 hours of 2027-06-21, UTC" in said.err and "below the horizon" in said.err
    film = tifffile.imread(island.folder / "film.tif", key=0)
    light = film.astype(float).mean(axis=tuple(axis for axis in range(3) if film.shape[axis] != 21))
    assert light[0] == 0 == light[-1]  # night at 24 degrees west, a little over an hour and a half behind
    assert light.argmax() in range(10, 14) and (np.diff(light[4:10]) > 0).all()


def test_elevation_in_feet_and_pieces_of_a_folder_are_taken(island: Program) -> None:
    island("terrain", "relief.tif", "--of", "slope", "--in", "ratio", "--z-unit", "ft", "--out", "feet.tif")
    island("terrain", "relief.tif", "--of", "slope", "--in", "ratio", "--out", "metres.tif")
    feet, metres = (tifffile.imread(island.folder / f"{name}.tif", key=0) for name in ("feet", "metres"))
    np.testing.assert_allclose(feet, metres * 0.3048, rtol=1e-5)
    (island.folder / "in").mkdir()
    for name in ("a", "b"):
        shutil.copy(island.folder / "relief.tif", island.folder / "in" / f"{name}.tif")
    island("terrain", "in", "--of", "roughness", "--out", "out/")
    assert sorted(path.name for path in (island.folder / "out").iterdir()) == ["a.tif", "b.tif"]


def test_pictures_and_classes_are_refused(island: Program, marrowick: Path) -> None:
    for name, word in (("landcover.tif", "classes"), ("island.tif", "colours")):
        source = next(marrowick.rglob(name), None) or marrowick / "ortho" / "m1.tif"
        what, why, _ = island.refuses(3, "terrain", source, "--of", "slope", "--out", "x.tif")
        assert word in what and "no heights" in why
