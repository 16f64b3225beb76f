"""Verbs on points, driven on the swaths of the island."""

from __future__ import annotations

import json
import struct
from pathlib import Path

import numpy as np
import pytest
import shapely

import depth
from points.clouds import HOME, at, cloud, whole, write
from program import Program
from zembrel.demo import island, lidar
from zembrel.features.files import read_features
from zembrel.formats import open_raster
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.framefile import read_frame
from zembrel.points.files import open_points
from zembrel.points.las.vlr import Record, write_records
from zembrel.points.records import Layout

MIDDLE_X, MIDDLE_Y = island.MIDDLE
HARBOUR = "733850,5096800"


@pytest.fixture
def swaths(marrowick: Path) -> list[Path]:
    return [marrowick / "lidar" / f"l{n}.laz" for n in (1, 2, 3, 4)]


def places(path: Path) -> np.ndarray:
    block = whole(path)
    return np.column_stack((block.x, block.y, block.z))


def rows(text: str) -> dict[str, str]:
    return {line[:11].strip(): line[11:].strip() for line in text.splitlines() if line.strip()}


def test_describe_tells_what_is_there_and_where_the_header_is_wrong(
    zembrel: Program, swaths: list[Path]
) -> None:
    said = zembrel("describe", swaths[1], "--stats", "--json").json["layers"][0]
    block = whole(swaths[1])
    assert said["points"] == len(block) and said["crs"] == "EPSG:32626"
    assert {int(k): v for k, v in said["classes"].items()} == {
        int(k): int(n) for k, n in zip(*np.unique(block.values("class"), return_counts=True), strict=True)
    }
    assert (
        sum(said["returns"].values()) == len(block) and said["header_faults"] == [] and said["outside"] == 0
    )
    assert said["sources"] == {"102": len(block)} and said["steps_back"] == 0
    assert said["statistics"]["z"]["max"] == pytest.approx(block.z.max())
    ground = (block.x.max() - block.x.min()) * (block.y.max() - block.y.min())
    assert said["density"] == pytest.approx(len(block) / ground, rel=0.03)
    data = bytearray(swaths[1].read_bytes())
    data[179:187] = np.float64(733_900.0).tobytes()  # the eastern end
    data[255:263] = np.uint64(7).tobytes()  # first returns
    (zembrel.folder / "lies.laz").write_bytes(data)
    said = zembrel("describe", "lies.laz", "--json").json["layers"][0]
    assert said["outside"] == int(np.sum(block.x > 733_900.005)) > 1000
    assert [fault.partition(":")[0] for fault in said["header_faults"]] == ["bounds", "points by return"]
    assert "733,480.01" in zembrel("describe", "lies.laz").out


def test_describe_finds_duplicates_voids_and_times_out_of_order(zembrel: Program) -> None:
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0, 200, 1.0), np.arange(0, 200, 1.0)))
    open_ = np.hypot(x - 100, y - 100) > 30
    block = at(x[open_], y[open_], x[open_] * 0)
    block.records["gps_time"] = np.arange(len(block))
    block.records["gps_time"][[500, 900]] = 5
    records = np.concatenate((block.records, block.records[:40]))
    write(zembrel.folder / "a.laz", type(block)(records, block.layout, block.scaling), None)
    said = zembrel("describe", "a.laz", "--stats", "--json").json["layers"][0]
    assert said["repeated"] == 40 and said["steps_back"] == 3 and said["voids"] == 1 and said["crs"] is None
    text = rows(zembrel("describe", "a.laz", "--stats").out)
    area = float(text["voids"].split(" of ")[1].split(" m2")[0].replace(",", ""))
    assert area == pytest.approx(np.pi * 30**2, rel=0.15) and text["CRS"].startswith("missing")


@pytest.mark.parametrize("area", (f"square:{HARBOUR},100", f"circle:{HARBOUR},80", "coast"))
@pytest.mark.parametrize("outside", depth.some((False, True), (False,)))
def test_clip_keeps_the_points_of_an_area(
    zembrel: Program, swaths: list[Path], marrowick: Path, area: str, outside: bool
) -> None:
    within = marrowick / "coast.geojson" if area == "coast" else area
    zembrel("clip", swaths[1], "--within", within, "--out", "a.laz", *(["--outside"] if outside else []))
    given, kept = places(swaths[1]), places(zembrel.folder / "a.laz")
    x, y = map(float, HARBOUR.split(","))
    if area == "coast":
        shape = read_features(marrowick / "coast.geojson").to(HOME).polygon()
        inside = shapely.intersects_xy(shape, given[:, 0], given[:, 1])
    elif area.startswith("circle"):
        away = np.hypot(given[:, 0] - x, given[:, 1] - y)
        inside = away <= 80
    else:
        east, north = np.round((given[:, 0] - x) * 100), np.round((given[:, 1] - y) * 100)
        inside = (east >= -10_000) & (east < 10_000) & (north > -10_000) & (north <= 10_000)
    expected = given[inside != outside]
    assert abs(len(kept) - len(expected)) <= (30 if area.startswith("circle") else 0) and 100 < len(
        kept
    ) < len(given)
    common = {tuple(row) for row in kept} & {tuple(row) for row in expected}
    assert len(common) > 0.998 * len(kept), "a circle has corners"


def test_an_area_is_in_the_crs_of_the_result_and_nothing_left_is_refused(
    zembrel: Program, swaths: list[Path]
) -> None:
    zembrel("reproject", swaths[1], "--crs", "EPSG:32627", "--out", "moved.laz")
    moved = whole(zembrel.folder / "moved.laz")
    west, south = float(np.median(moved.x)), float(np.median(moved.y))
    area = f"{west},{south},{west + 50},{south + 50}"
    zembrel("clip", swaths[1], "--within", area, "--crs", "EPSG:32627", "--out", "a.laz")
    zembrel("clip", "moved.laz", "--within", area, "--out", "b.laz")
    one, other = places(zembrel.folder / "a.laz"), places(zembrel.folder / "b.laz")
    assert abs(len(one) - len(other)) < 3 and np.abs(one.mean(axis=0) - other.mean(axis=0)).max() < 0.05
    what, why, _ = zembrel.refuses(3, "convert", swaths[1], "--where", "z > 5000", "--out", "x.laz")
    assert what == "no point is left for x.laz" and why.startswith("202,446")
    assert (
        "no point lies inside"
        in zembrel.refuses(3, "clip", swaths[1], "--within", "1,2,3,4", "--out", "x.laz")[0]
    )


def test_bounds_of_chunks_are_kept_when_asked_and_spare_reading(zembrel: Program, swaths: list[Path]) -> None:
    zembrel("convert", swaths[1], "--set", "chunk=4000", "--out", "a.laz")
    clip = ("clip", "a.laz", "--within", f"square:{HARBOUR},20", "--replace", "--json")
    first = zembrel(*clip, "--out", "b.laz").json
    assert first["parts_read"] == first["parts"] == 51 and not (zembrel.folder / "a.laz.bounds").exists()
    zembrel(*clip, "--out", "b.laz", "--keep-bounds")
    again = zembrel(*clip, "--out", "c.laz").json
    assert again["parts_read"] < 10 and again["written"] == first["written"] > 500
    assert (zembrel.folder / "b.laz").read_bytes() == (zembrel.folder / "c.laz").read_bytes()
    zembrel("convert", swaths[0], "--out", "a.laz", "--replace")  # another file of that name
    other = zembrel("describe", "a.laz", "--json").json["layers"][0]
    assert other["points"] == len(whole(swaths[0])), "what is kept beside is not of this file"


def test_picking_by_class_return_and_condition(zembrel: Program, swaths: list[Path]) -> None:
    block = whole(swaths[2])
    for words, mask in (
        (("--classes", "2,9"), np.isin(block.values("class"), (2, 9))),
        (("--classes", "3-6"), (block.values("class") >= 3) & (block.values("class") <= 6)),
        (("--returns", "last"), block.values("return") == block.values("returns")),
        (("--returns", "2,3"), block.values("return") > 1),
        (("--where", "class == 5 and intensity > 200"), (block.values("class") == 5) & (block.values("intensity") > 200)),
        (("--where", "scan_angle < -10 or z > 60"), (block.values("scan_angle") < -10) | (block.z > 60)),
    ):  # fmt: skip
        zembrel("convert", swaths[2], *words, "--out", "a.las", "--replace")
        assert whole(zembrel.folder / "a.las").records.tobytes() == block.records[mask].tobytes(), words
    assert (
        zembrel.refuses(2, "convert", swaths[2], "--returns", "frist", "--out", "x.las")[0]
        == "--returns frist"
    )
    assert "hight" in zembrel.refuses(2, "convert", swaths[2], "--where", "hight > 3", "--out", "x.las")[0]


def test_mosaic_brings_clouds_into_one(zembrel: Program, swaths: list[Path], marrowick: Path) -> None:
    zembrel("reproject", swaths[3], "--crs", "EPSG:32627", "--out", "east.laz")
    said = zembrel(
        "mosaic", swaths[0], "east.laz", marrowick / "lidar" / "sea.laz", "--within", "733480,5096500,734280,5097100",
        "--source-ids", "--out", "all.laz", "--json",
    ).json  # fmt: skip
    made = whole(zembrel.folder / "all.laz")
    own, far = whole(swaths[0]), whole(swaths[3])
    assert len(made) == said["written"] == pytest.approx(len(own) + len(far), abs=40)
    chose = {item["fact"]: item for item in said["chose"]}
    assert chose["nothing_there"]["input"].endswith("sea.laz") and "steps_finest" in chose
    sources = np.unique(made.values("source"))
    assert sources.tolist() == [1, 2]
    back = np.column_stack((made.x, made.y, made.z))[made.values("source") == 2]
    there = np.column_stack((far.x, far.y, far.z))
    there = there[(there[:, 0] < 734_280) & (there[:, 1] < 5_097_100)]
    np.testing.assert_allclose(back[:1000], there[:1000], atol=0.0016)
    what, why, remedy = zembrel.refuses(
        3, "mosaic", swaths[0], marrowick / "lidar" / "raw.las", "--out", "x.laz"
    )
    assert (
        what.endswith("raw.las has no coordinate reference system")
        and "EPSG:32626" in remedy
        and "other 1" in why
    )


@pytest.mark.parametrize("target", ("EPSG:32627", "EPSG:4326", "EPSG:3857"))
def test_reproject_loses_no_precision(zembrel: Program, swaths: list[Path], target: str) -> None:
    zembrel("reproject", swaths[3], "--crs", target, "--out", "a.laz")
    crs = by_code(int(target[5:]))
    given, made = places(swaths[3]), places(zembrel.folder / "a.laz")
    x, y = operation(HOME, crs)(given[:, 0], given[:, 1])
    step = 6e-9 if target == "EPSG:4326" else 6e-4
    assert np.abs(made[:, 0] - x).max() < step and np.abs(made[:, 1] - y).max() < step
    zembrel("reproject", "a.laz", "--crs", "EPSG:32626", "--out", "b.laz", "--set", "scale=0.01")
    assert np.abs(places(zembrel.folder / "b.laz") - given).max() < 0.0101
    zembrel("reproject", swaths[3], "--z-unit", "ft", "--from-z-unit", "m", "--out", "feet.laz")
    np.testing.assert_allclose(places(zembrel.folder / "feet.laz")[:, 2] * 0.3048, given[:, 2], atol=2e-3)


def test_tile_gives_each_point_one_sheet_and_marks_margins(zembrel: Program, swaths: list[Path]) -> None:
    said = zembrel(
        "tile", swaths[1], swaths[2], "--size", "200m", "--margin", "15m", "--index", "index.geojson",
        "--out", "sheets/", "--json",
    ).json  # fmt: skip
    total, seen = len(whole(swaths[1])) + len(whole(swaths[2])), 0
    for sheet in said["sheets"]:
        held = whole(zembrel.folder / sheet["path"])
        inside = (held.x >= sheet["west"]) & (held.x < sheet["east"])
        inside &= (held.y > sheet["south"]) & (held.y <= sheet["north"])
        np.testing.assert_array_equal(held.values("margin") == 0, inside)
        assert held.x.min() >= sheet["west"] - 15.01 and held.y.max() <= sheet["north"] + 15.01
        seen += int(inside.sum())
    assert seen == total == said["points"]
    index = read_features(zembrel.folder / "index.geojson")
    assert len(index) == len(said["sheets"]) and sum(row["points"] for row in index.rows()) == total
    before = (zembrel.folder / said["sheets"][0]["path"]).stat().st_mtime_ns
    (zembrel.folder / said["sheets"][1]["path"]).unlink()
    again = zembrel(
        "tile",
        swaths[1],
        swaths[2],
        "--size",
        "200m",
        "--margin",
        "15m",
        "--out",
        "sheets/",
        "--resume",
        "--json",
    ).json
    assert again["kept"] == len(said["sheets"]) - 1 and len(again["sheets"]) == 1
    assert (zembrel.folder / said["sheets"][0]["path"]).stat().st_mtime_ns == before
    assert (
        "--cells is for rasters" in zembrel.refuses(2, "tile", swaths[1], "--cells", "100", "--out", "x/")[0]
    )


def test_many_files_are_converted_into_a_folder_and_resumed(zembrel: Program, swaths: list[Path]) -> None:
    plan = zembrel("convert", *swaths, "--format", "las", "--out", "plain/", "--dry-run", "--json").json
    records = sum(open_points(path).cloud.count for path in swaths) * 30
    assert plan["bytes"] == pytest.approx(records, rel=0.01) and not (zembrel.folder / "plain").exists()
    zembrel("convert", *swaths[:2], "--format", "las", "--out", "plain/")
    first = (zembrel.folder / "plain" / "l1.las").stat().st_mtime_ns
    said = zembrel("convert", *swaths, "--format", "las", "--out", "plain/", "--resume")
    assert (
        "2 results stood already" in said.err
        and (zembrel.folder / "plain" / "l1.las").stat().st_mtime_ns == first
    )
    size = sum(path.stat().st_size for path in (zembrel.folder / "plain").iterdir())
    assert size == pytest.approx(records, rel=0.01)
    what, why, remedy = zembrel.refuses(4, "convert", swaths[1], "--out", "big.las", "--ceiling", "1MB")
    assert "would take up to 6.08 MB" in what and "202,446 points" in why and "--ceiling 1GB" in remedy


def test_other_grades_name_what_is_lost(zembrel: Program, swaths: list[Path]) -> None:
    said = zembrel("convert", swaths[1], "--set", "format=2", "--out", "a.laz", code=7)
    assert "gps_time is lost: 202,446 points" in said.err and "scan angles are rounded" in said.err
    assert whole(zembrel.folder / "a.laz").layout == Layout(2)
    assert (
        "did you mean format?"
        in zembrel.refuses(2, "convert", swaths[1], "--set", "fromat=2", "--out", "b.las")[2]
    )
    assert "need 1.4" in zembrel.refuses(2, "convert", swaths[1], "--set", "version=1.2", "--out", "b.las")[1]


def test_thin_in_four_ways(zembrel: Program, swaths: list[Path]) -> None:
    block = whole(swaths[3])
    zembrel("thin", swaths[3], "--every", "7", "--out", "a.las")
    assert whole(zembrel.folder / "a.las").records.tobytes() == block.records[::7].tobytes()
    for seed, name in ((0, "b.las"), (0, "c.las"), (1, "d.las")):
        zembrel("thin", swaths[3], "--share", "0.2", "--seed", seed, "--out", name)
    one, two, other = ((zembrel.folder / n).read_bytes() for n in ("b.las", "c.las", "d.las"))
    assert one == two != other and len(whole(zembrel.folder / "b.las")) == pytest.approx(
        0.2 * len(block), rel=0.03
    )
    zembrel("thin", swaths[3], "--cell", "5m", "--best", "lowest", "--out", "e.las")
    cells = np.floor(np.column_stack((block.x, -block.y)) / 5)  # west and north edges
    kept = whole(zembrel.folder / "e.las")
    _, which = np.unique(cells, axis=0, return_inverse=True)
    lowest = np.full(which.max() + 1, np.inf)
    np.minimum.at(lowest, which.ravel(), block.z)
    assert np.sort(kept.z).tolist() == np.sort(lowest).tolist()
    zembrel("thin", swaths[3], "--spacing", "4m", "--out", "f.las")
    spaced = places(zembrel.folder / "f.las")
    from scipy.spatial import cKDTree

    tree = cKDTree(spaced)
    assert tree.query(spaced, k=2)[0][:, 1].min() >= 4 - 1e-9
    assert tree.query(places(swaths[3]))[0].max() < 4, "everything left out is close to something kept"
    assert zembrel.refuses(2, "thin", swaths[3], "--out", "x.las")[0] == "0 ways to thin"


def truth(path: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Cells of a raster, where it is valid, the island's height there, and where its ground is open."""
    raster = open_raster(path)
    block, frame = raster.cells(raster.frame.pane), raster.frame
    columns, down = np.meshgrid(np.arange(frame.columns) + 0.5, np.arange(frame.rows) + 0.5)
    x, y = frame.corners.at(columns.ravel(), down.ravel())
    x, y = np.asarray(x) - MIDDLE_X, np.asarray(y) - MIDDLE_Y
    shape = columns.shape
    open_ = (lidar.canopy(x, y) == 0) & (lidar.houses(x, y) == 0) & (island.inland(x, y) > 0.002)
    return block.cells, np.asarray(block.valid), island.heights(x, y).reshape(shape), open_.reshape(shape)


@pytest.mark.deep
def test_the_gridded_terrain_is_the_island(zembrel: Program, swaths: list[Path]) -> None:
    zembrel("grid", *swaths, "--classes", "2", "--surface", "tin", "--cell", "1m", "--out", "t.tif")
    cells, valid, height, open_ = truth(zembrel.folder / "t.tif")
    here = valid & open_
    assert here.sum() > 200_000 and np.sqrt(np.mean((cells[0] - height)[here] ** 2)) < 0.05
    zembrel("grid", *swaths, "--classes", "2", "--surface", "idw", "--cell", "1m", "--out", "i.tif")
    cells, valid, height, open_ = truth(zembrel.folder / "i.tif")
    assert np.sqrt(np.mean((cells[0] - height)[valid & open_] ** 2)) < 0.15


def test_products_of_a_survey_in_one_pass(zembrel: Program, swaths: list[Path]) -> None:
    zembrel("grid", *swaths, "--products", "terrain,surface,canopy", "--cell", "2m", "--out", "p.tif")
    raster = open_raster(zembrel.folder / "p.tif")
    assert [band.name for band in raster.bands] == ["terrain", "surface", "canopy"]
    cells, valid, height, open_ = truth(zembrel.folder / "p.tif")
    here = valid.all(axis=0) if valid.ndim == 3 else valid
    terrain, _, canopy = cells
    assert np.sqrt(np.mean((terrain - height)[here & open_] ** 2)) < 0.15
    assert np.median(canopy[here & open_]) < 0.5 and canopy[here].min() >= 0
    assert np.percentile(canopy[here], 99) > 8, "trees stand above the ground"
    what, _, remedy = zembrel.refuses(
        3, "grid", swaths[0], "--products", "terrain", "--classes", "9", "--cell", "2m", "--out", "x.tif"
    )
    assert what == "no point is ground" and "ground" in remedy


def test_cells_do_not_depend_on_workers_and_land_on_a_frame(zembrel: Program, swaths: list[Path]) -> None:
    zembrel(
        "frame",
        "--within",
        f"square:{HARBOUR},150",
        "--crs",
        "EPSG:32626",
        "--cell",
        "3m",
        "--out",
        "h.frame.toml",
    )
    for workers in (1, 2):
        for name, words in (
            ("m", ["--stat", "mean", "--stat", "percentile:90:intensity"]),
            ("t", ["--surface", "tin", "--spikes", "3m"]),
        ):
            out = f"{name}{workers}.tif"
            zembrel("grid", *swaths, *words, "--onto", "h.frame.toml", "--workers", workers, "--out", out)
    for name in "mt":
        assert (zembrel.folder / f"{name}1.tif").read_bytes() == (
            zembrel.folder / f"{name}2.tif"
        ).read_bytes()
    zembrel("describe", "h.frame.toml", code=None)
    assert open_raster(zembrel.folder / "m1.tif").frame == read_frame(zembrel.folder / "h.frame.toml")
    for words, said in (
        (["--out", "x.tif"], "there is no frame"),
        (["--cell", "2m", "--out", "x.laz"], "x.laz is the name of a point file"),
        (["--cell", "2m", "--stat", "meen", "--out", "x.tif"], "--stat meen"),
        (
            ["--cell", "2m", "--stat", "mean", "--surface", "tin", "--out", "x.tif"],
            "several ways to make cells",
        ),
    ):
        assert zembrel.refuses(2, "grid", swaths[0], *words)[0] == said
    assert (
        zembrel.refuses(
            3,
            "grid",
            swaths[0],
            "--cell",
            "2m",
            "--classes",
            "77",
            "--out",
            "x.tif",
        )[0]
        == "no point was used"
    )


def test_ground_is_found_without_classes(zembrel: Program, marrowick: Path, swaths: list[Path]) -> None:
    zembrel("ground", marrowick / "lidar" / "raw.las", "--out", "g.laz")
    made = whole(zembrel.folder / "g.laz")
    away = made.z - np.maximum(island.heights(made.x - MIDDLE_X, made.y - MIDDLE_Y), 0)
    found, true = made.values("class") == 2, np.abs(away) < 0.25
    assert np.mean(true[found]) > 0.98, "what is called ground is"
    last = made.values("return") == made.values("returns")
    assert np.mean(found[true & last]) > 0.9, "and most of it is found"
    blank = zembrel.folder / "blank.laz"
    block = whole(swaths[2]).having("class", 1)
    write(blank, block)
    zembrel("ground", "blank.laz", "--out", "again.laz")
    was, now = whole(swaths[2]).values("class"), whole(zembrel.folder / "again.laz").values("class")
    assert np.mean(now[was == 2] == 2) > 0.9 and np.mean(now[was == 6] == 2) < 0.02, "houses are no ground"
    assert np.mean(now[was == 5] == 2) < 0.01, "nor are trees"
    zembrel("reproject", swaths[0], "--crs", "EPSG:4326", "--out", "deg.laz")
    assert "degrees" in zembrel.refuses(3, "ground", "deg.laz", "--out", "x.laz")[0]


def test_pictures_of_points(zembrel: Program, swaths: list[Path]) -> None:
    from PIL import Image

    zembrel("draw", *swaths, "--by", "class", "--out", "plan.png")
    zembrel(
        "draw", *swaths, "--by", "height", "--section", "733600,5096700,734000,5097050", "--out", "cut.png"
    )
    plan = np.asarray(Image.open(zembrel.folder / "plan.png").convert("RGB")).reshape(-1, 3)
    for colour in ((176, 132, 92), (62, 118, 68), (82, 136, 168), (188, 84, 62)):
        assert (np.abs(plan.astype(int) - colour).max(axis=1) <= 2).sum() > 300, colour
    assert Image.open(zembrel.folder / "cut.png").size == (1280, 800)
    said = zembrel("draw", swaths[0], "--classes", "9", "--out", "w.png", "--json").json
    assert said["points"] == int((whole(swaths[0]).values("class") == 9).sum())
    assert (
        "no point lies within"
        in zembrel.refuses(3, "draw", swaths[0], "--section", "0,0,9,9", "--out", "x.png")[0]
    )


def test_a_broken_cloud_is_salvaged_and_the_loss_is_told(zembrel: Program, swaths: list[Path]) -> None:
    data = swaths[2].read_bytes()
    (zembrel.folder / "cut.laz").write_bytes(data[: int(len(data) * 0.6)])
    what, _, remedy = zembrel.refuses(3, "convert", "cut.laz", "--out", "x.las")
    assert "no table of its chunks" in what and "--salvage" in remedy
    said = zembrel("convert", "cut.laz", "--salvage", "--out", "x.las", "--json").json
    kept, given = whole(zembrel.folder / "x.las"), whole(swaths[2])
    assert 100_000 <= len(kept) == said["written"] < len(given)
    lost = f"{len(given) - len(kept):,} of {len(given):,} points are lost"
    assert any(lost in item["text"] for item in said["chose"])
    assert kept.records[:100_000].tobytes() == given.records[:100_000].tobytes()


def test_points_rasters_and_features_do_not_mix(
    zembrel: Program, swaths: list[Path], marrowick: Path
) -> None:
    what, _, _ = zembrel.refuses(2, "mosaic", swaths[0], marrowick / "dem" / "r1.tif", "--out", "x.laz")
    assert "holds points" in what
    assert (
        "for points"
        in zembrel.refuses(2, "convert", marrowick / "dem" / "r1.tif", "--classes", "2", "--out", "x.tif")[1]
    )
    assert (
        "holds no points"
        in zembrel.refuses(3, "thin", marrowick / "dem" / "r1.tif", "--every", "2", "--out", "x.laz")[0]
    )
    assert "pointname" not in json.dumps(zembrel("formats", "--json").json)
    write(zembrel.folder / "none.laz", cloud(0))
    assert zembrel("convert", "none.laz", "--out", "none.csv").code == 0
    assert (zembrel.folder / "none.csv").read_text().startswith("x,y,z,return")


def test_columns_are_chosen_and_classes_bring_their_names(zembrel: Program, swaths: list[Path]) -> None:
    zembrel("convert", swaths[3], "--columns", "z,intensity,x", "--out", "a.csv")
    lines = (zembrel.folder / "a.csv").read_text().splitlines()
    block = whole(swaths[3])
    assert (
        lines[0] == "z,intensity,x"
        and lines[1] == f"{block.z[0]:.2f},{block.values('intensity')[0]},{block.x[0]:.2f}"
    )
    zembrel("convert", "a.csv", "--columns", "z,-,x", "--out", "b.laz", code=3)
    record = write_records([Record("LASF_Spec", 0, bytes([5]) + b"spruce".ljust(15, b"\0"))])
    data = bytearray(swaths[3].read_bytes())
    size, points_at, number = struct.unpack_from("<HII", data, 94)
    data[size:size] = record
    struct.pack_into("<II", data, 96, points_at + len(record), number + 1)
    table = struct.unpack_from("<q", data, points_at + len(record))[0]
    struct.pack_into("<q", data, points_at + len(record), table + len(record))
    (zembrel.folder / "named.laz").write_bytes(data)
    assert rows(zembrel("describe", "named.laz").out)["class 5"].endswith("spruce")


def test_an_index_of_clouds(zembrel: Program, swaths: list[Path], marrowick: Path) -> None:
    zembrel("index", *swaths, "--out", "index.gpkg")
    table = read_features(zembrel.folder / "index.gpkg")
    assert [row["points"] for row in table.rows()] == [len(whole(path)) for path in swaths]
    west, _, east, _ = shapely.total_bounds(table.to(HOME).geometries)
    assert west == pytest.approx(733_480, abs=2) and east == pytest.approx(734_280, abs=2)
    assert (
        "no coordinate" in zembrel.refuses(3, "index", marrowick / "lidar" / "raw.las", "--out", "x.gpkg")[0]
    )


@pytest.mark.deep
def test_the_first_use_says_that_it_compiles(zembrel: Program, swaths: list[Path]) -> None:
    kernels = {"NUMBA_CACHE_DIR": str(zembrel.folder / "kernels")}
    said = zembrel.apart("describe", swaths[3], **kernels)
    assert said.err.count("note:  compiling kernels") == 1
    assert "compiling" not in zembrel.apart("describe", swaths[3], **kernels).err


def test_waveforms_beside_a_file_go_along(zembrel: Program) -> None:
    path = write(zembrel.folder / "a.las", cloud(30, Layout(9)))
    data = bytearray(path.read_bytes())
    data[6:8] = struct.pack("<H", 16 | 4)  # WKT, and waveforms in a file of their own
    path.write_bytes(data)
    (zembrel.folder / "a.wdp").write_bytes(b"waves")
    said = zembrel("convert", "a.las", "--out", "b.laz")
    assert (zembrel.folder / "b.wdp").read_bytes() == b"waves" and "beside it b.wdp" in said.err
    zembrel("convert", "a.las", "--set", "format=6", "--out", "c.laz")
    assert not (zembrel.folder / "c.wdp").exists()
