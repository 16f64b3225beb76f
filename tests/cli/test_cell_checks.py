"""check on cells: each fault that was put in is found where it is, and none where there is none."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from scipy import ndimage

from program import Program
from rasters import frame, raster, save

CHANCE = np.random.default_rng(11)
GROUND = ndimage.gaussian_filter(CHANCE.normal(0, 300, (700, 900)), 6) + 400
WHERE = frame(900, 700)


def items(zembrel: Program, name: str, *words: str, code: int | None = 0) -> dict[str, tuple[str, str]]:
    """Verdict and finding of each rule on cells."""
    said = zembrel("check", name, "--rules", "cells", *words, "--json", code=code).json
    return {item["rule"]: (item["verdict"], item["found"]) for item in said["files"][0]["items"]}


SEAM, LEAK = "no seam runs through the values", "no nodata value stands among the values"


@pytest.mark.parametrize("kind", ["float32", "int16", "uint16"])
def test_sound_ground_has_no_fault(zembrel: Program, kind: str) -> None:
    save(zembrel.folder / "g.tif", raster(GROUND.astype(kind), where=WHERE, unit="m"))
    assert {verdict for verdict, _ in items(zembrel, "g.tif").values()} == {"ok"}


@pytest.mark.parametrize("kind", ["float32", "int16"])
@pytest.mark.parametrize("upright", [True, False])
def test_a_seam_is_found_at_its_line(zembrel: Program, kind: str, upright: bool) -> None:
    cells = GROUND.copy()
    if upright:
        cells[:, 333:] += 9
    else:
        cells[412:] -= 9
    save(zembrel.folder / "g.tif", raster(cells.astype(kind), where=WHERE, unit="m"))
    verdict, found = items(zembrel, "g.tif", code=1)[SEAM]
    places = [tuple(map(float, place)) for place in re.findall(r"(\d+(?:\.\d+)?),(\d+(?:\.\d+)?)", found)]
    assert verdict == "fault" and "--match-tone" in found
    at, due = (0, 730_000 + 3330) if upright else (1, 5_100_000 - 4120)
    assert [place[at] for place in places[:2]] == [due, due]
    assert re.search(r"by -?[78-9]|by -?1?\d", found)


def test_steps_at_every_block_are_told_as_such(zembrel: Program) -> None:
    cells = GROUND + (np.indices(GROUND.shape) // 256).sum(axis=0) % 2 * 12.0
    save(zembrel.folder / "g.tif", raster(cells.astype(np.float32), where=WHERE, unit="m"))
    assert "multiples of 256 cells" in items(zembrel, "g.tif", code=1)[SEAM][1]


@pytest.mark.parametrize("value, place", [(-9999.0, (5, 8)), (32767.0, (650, 870))])
def test_a_leaked_nodata_value_is_found_with_its_place(
    zembrel: Program, value: float, place: tuple[int, int]
) -> None:
    cells = GROUND.copy()
    cells[place[0] : place[0] + 3, place[1] : place[1] + 5] = value
    save(zembrel.folder / "g.tif", raster(cells.astype(np.float32), where=WHERE, unit="m"))
    verdict, found = items(zembrel, "g.tif", code=1)[LEAK]
    assert verdict == "fault" and f"label --nodata {value:.0f}" in found and "in 15 cells" in found
    assert f"first at {730_005 + 10 * place[1]},{5_099_995 - 10 * place[0]}" in found
    zembrel("label", "g.tif", "--nodata", f"{value:.0f}")
    assert items(zembrel, "g.tif")[LEAK][0] == "ok", "what it advises mends it"


def test_voids_and_odd_places_are_told(zembrel: Program) -> None:
    valid = np.ones(GROUND.shape, bool)
    valid[:300, :300] = False
    shifted = frame(900, 700, left=730_005.0, top=5_100_005.0)
    save(zembrel.folder / "g.tif", raster(GROUND.astype(np.float32), valid, shifted, unit="m"))
    told = items(zembrel, "g.tif")
    assert "1 of 12 squares of 256 cells are empty, the first at 730005,5100005" in told["cells are valid"][1]
    verdict, found = told["values stand where the frame says"]
    assert verdict == "note" and "half a cell off" in found and "label --registration node" in found
    zembrel("convert", "g.tif", "--out", "far.tif", "--from-crs", "EPSG:27700", "--force-crs")
    assert (
        "check the CRS"
        in items(zembrel, "far.tif", code=1)["the layer lies in the area of use of its CRS"][1]
    )
    zembrel("convert", "g.tif", "--out", "zone.tif", "--from-crs", "EPSG:32633", "--force-crs")
    assert items(zembrel, "zone.tif")["the layer lies in the area of use of its CRS"][0] == "ok", (
        "nothing tells"
    )


def test_a_collar_is_found_and_text_that_was_lost(zembrel: Program, marrowick: Path) -> None:
    sheet = marrowick / "ortho" / "m3.tif"
    verdict, found = items(zembrel, str(sheet), code=1)["no collar of one colour lies around"]
    assert verdict == "fault" and "1/1/1" in found and "--trim-collar" in found
    text = np.kron(CHANCE.integers(0, 2, (90, 120)), np.ones((3, 3))) * 200
    save(
        zembrel.folder / "map.tif", raster(np.stack([text] * 3).astype(np.uint8), where=frame(360, 270, 1.0))
    )
    zembrel("resample", "map.tif", "--cell", "4m", "--method", "mean", "--out", "coarse.tif")
    zembrel("resample", "map.tif", "--cell", "1m", "--method", "cubic", "--out", "same.tif")
    verdict, found = items(zembrel, "coarse.tif", "--against", "map.tif", code=None)["text stays legible"]
    assert verdict == "fault" and "map.tif" in found
    assert items(zembrel, "same.tif", "--against", "map.tif", code=None)["text stays legible"][0] == "ok"


def test_other_formats_are_looked_at_too(zembrel: Program) -> None:
    save(zembrel.folder / "g.asc", raster(GROUND[:50, :60].astype(np.float32), where=frame(60, 50)))
    assert "rules obeyed" in zembrel("check", "g.asc").out
    assert "are not checked here" in zembrel.refuses(3, "check", "g.asc", "--rules", "tiff")[0]
