"""Images of catalogues, blocks of points, and files: only what the area needs is read."""

from __future__ import annotations

import struct
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
import tifffile

from points.clouds import cloud, whole, write
from program import Program
from rasters import frame, raster, save
from sources.island import Site, shelf_item, site
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds

WHERE = frame(40, 30)  # 10 m cells from 730,000 and 5,100,000
SQUARE = "730100,5099750,730300,5099950@EPSG:32626"


def image(folder: Path, name: str, value: int, day: str, cloud: float, hole: bool = False):  # type: ignore[no-untyped-def]
    valid = np.ones((30, 40), bool)
    valid[10:15, 15:20] = not hole
    path = save(folder / f"{name}.tif", raster(np.full((3, 30, 40), value, np.uint8), valid, WHERE))
    return shelf_item(path, carried_bounds(WHERE, by_code(4326)), day, cloud)


@pytest.fixture(scope="module")
def pictures(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[..., object]]:
    folder = tmp_path_factory.mktemp("images")
    items = [image(folder, f"i{n}", value, f"2024-0{n + 1}-15", cloud, hole=n == 4)
             for n, (value, cloud) in enumerate([(10, 5), (60, 30), (20, 80), (200, 10), (90, 50)])]  # fmt: skip
    items.append(shelf_item(items[0].path, (10.0, 10.0, 11.0, 11.0), "2024-03-01", 0.0))

    @contextmanager
    def served(signed: float = 0.0) -> Iterator[Site]:
        with site(items, (), signed) as found:
            yield found

    yield served


def cells_of(program: Program, name: str = "o.tif") -> np.ndarray:
    return tifffile.imread(program.folder / name)[..., 0]


@pytest.mark.parametrize("path", ["/stac", "/stac/catalog.json"])
def test_images_by_day_cloud_and_rule(program: Program, pictures: Callable[..., object], path: str) -> None:
    with pictures() as island:  # type: ignore[attr-defined]
        island.add(program, "s", path, "stac", attribution="Marrowick survey")
        fetch = ("fetch", "s", "--within", SQUARE, "--replace", "--out", "o.tif")
        said = program(*fetch, "--json").json
        latest = cells_of(program)
        assert latest[0, 0] == 90 and latest[8, 8] == 200  # the hole of the latest shows the one before
        assert said["checks"][-1]["credit"] == "Marrowick survey"
        for words, value in (
            (("--composite", "least-cloud"), 10), (("--dates", "2024-02..2024-03"), 20), (("--cloud", "20"), 200),
            (("--composite", "median"), 60), (("--composite", "max", "--dates", "2024-01..2024-03-15"), 60),
        ):  # fmt: skip
            program(*fetch, *words)
            assert cells_of(program)[0, 0] == value, words
        program(*fetch, "--composite", "median")
        assert cells_of(program)[8, 8] == 40  # of 10, 20, 60 and 200
        what, why, remedy = program.refuses(6, *fetch, "--dates", "1999")
        assert "1999-01-01 to 1999-12-31" in what and "2024-01-15 to 2024-05-15" in why
        assert remedy.endswith("--dates 2024-01-15..2024-05-15")
        what, why, remedy = program.refuses(6, *fetch, "--cloud", "1")
        assert "5 to 80 %" in why and remedy.endswith("--cloud 5")
        assert "after the last" in program.refuses(2, *fetch, "--dates", "2024-05..2024-02")[1]


def test_another_search_and_another_query_are_other_answers(program: Program, tmp_path: Path) -> None:
    there = frame(40, 30, left=731_000.0)
    items = []
    for name, where, value in (("here", WHERE, 10), ("there", there, 99)):
        (tmp_path / "files").mkdir(exist_ok=True)
        path = save(
            tmp_path / f"files/{name}.tif", raster(np.full((3, 30, 40), value, np.uint8), where=where)
        )
        items.append(shelf_item(path, carried_bounds(where, by_code(4326)), "2024-01-15", 5))
    with site(items) as island:
        island.add(program, "s", "/stac", "stac")
        program("fetch", "s", "--within", SQUARE, "--out", "here.tif")
        east = "731100,5099750,731300,5099950@EPSG:32626"
        program("fetch", "s", "--within", east, "--out", "there.tif")
        assert cells_of(program, "here.tif")[0, 0] == 10 and cells_of(program, "there.tif")[0, 0] == 99
        for name in ("here", "there"):  # files that differ in their query alone
            island.add(program, name, f"/download?file={name}.tif", "file")
            program(
                "fetch",
                name,
                "--within",
                SQUARE if name == "here" else east,
                "--out",
                f"{name}.tif",
                "--replace",
            )
        assert cells_of(program, "here.tif")[0, 0] == 10 and cells_of(program, "there.tif")[0, 0] == 99


def test_signed_addresses_are_asked_for_anew(program: Program, pictures: Callable[..., object]) -> None:
    with pictures(signed=1.0) as island:  # type: ignore[attr-defined]
        island.add(program, "s", "/stac", "stac")
        program("fetch", "s", "--within", SQUARE, "--dates", "2024-01", "--out", "o.tif")
        time.sleep(1.1)
        said = program(
            "fetch", "s", "--within", SQUARE, "--dates", "2024-01", "--out", "p.tif", "--json"
        ).json
        assert cells_of(program, "p.tif")[0, 0] == 10 and said["web"]["requests"] >= 3


def test_a_part_of_a_large_image_is_read_in_few_requests(program: Program, tmp_path: Path) -> None:
    where = frame(6_000, 6_000, 1.0)
    grain = np.random.default_rng(3).integers(0, 255, (6_000, 6_000), np.uint8)
    big = save(
        tmp_path / "big.tif", raster(np.broadcast_to(grain, (3, 6_000, 6_000)), where=where), overviews="mean"
    )
    item = shelf_item(big, carried_bounds(where, by_code(4326)), "2024-01-01", 0.0)
    with site([item]) as island:
        island.add(program, "s", "/stac", "stac")
        words = ("--within", "731024,5097600,731624,5098200@EPSG:32626", "--json", "--out")
        said = program("fetch", "s", *words, "o.tif").json
        assert said["web"]["bytes"] < 0.035 * big.stat().st_size and said["web"]["requests"] <= 12
        assert tifffile.imread(program.folder / "o.tif").shape[:2] == (600, 600)
        again = program("fetch", "s", *words, "p.tif").json
        assert again["web"]["requests"] <= 2  # it is asked whether the file is the same
        (program.folder / "f.toml").write_text("")
        island.add(program, "f", f"/files/{big.name}", "file")
        program("clip", "sources/f.source.toml", "--within", words[1], "--out", "c.tif")
        np.testing.assert_array_equal(
            tifffile.imread(program.folder / "c.tif"), tifffile.imread(program.folder / "o.tif")
        )


@pytest.fixture
def lidar(tmp_path: Path) -> Iterator[tuple[Site, Path]]:
    folder = tmp_path / "blocks"
    folder.mkdir()
    items = []
    for n in range(3):
        block = cloud(4_000, side=100.0, seed=n)
        block.records["X"] += n * 10_000  # 100 m to the east
        write(folder / f"b{n}.laz", block)
        where = frame(1, 1, 100.0, 730_000.0 + 100 * n, 5_100_100.0)
        path = folder / f"b{n}.laz"
        if n == 2:
            with zipfile.ZipFile(folder / "b2.zip", "w") as held:
                held.write(path, "inside/b2.laz")
            path = folder / "b2.zip"
        items.append(shelf_item(path, carried_bounds(where, by_code(4326)), "2024-01-01", 0.0))
    with site((), items) as island:
        yield island, folder


def test_blocks_of_points_are_brought_together(program: Program, lidar: tuple[Site, Path]) -> None:
    island, folder = lidar
    island.add(program, "b", "/blocks/index.geojson", "blocks", tries=2)
    within = ("--within", "730090,5100010,730220,5100090@EPSG:32626")
    plan = program("fetch", "b", *within, "--out", "a.laz", "--dry-run", "--json").json
    assert plan["results"][0]["count"] == 3 and plan["results"][0]["bytes_at_most"] == sum(
        (folder / name).stat().st_size for name in ("b0.laz", "b1.laz", "b2.zip")
    )
    assert "ceiling" in program.refuses(4, "fetch", "b", *within, "--out", "a.laz", "--ceiling", "1kB")[1]
    said = program("fetch", "b", *within, "--out", "a.laz", "--json").json
    program("mosaic", *(str(folder / f"b{n}.laz") for n in range(3)), *within, "--out", "own.laz")
    there, here = (whole(program.folder / name) for name in ("a.laz", "own.laz"))
    np.testing.assert_array_equal(there.records, here.records)
    assert said["chose"][0] == {
        "fact": "blocks_met",
        "text": "3 of 3 blocks meet the area",
        "blocks": 3,
        "of": 3,
    }
    before = island.faults.asked
    program("fetch", "b", *within, "--out", "b.laz", "--offline")
    assert island.faults.asked == before
    only = program(
        "fetch", "b", "--within", "730010,5100010,730090,5100090@EPSG:32626", "--out", "c.laz", "--json"
    ).json
    assert only["chose"][0]["blocks"] == 1
    vars(island.faults).update(dead="b1.laz")
    program("source", "cache", "clear")
    lost = program("fetch", "b", *within, "--out", "d.laz", "--json", code=7).json
    assert [loss["input"] for loss in lost["lost"]] == [f"{island.address}/files/b1.laz"]


def chunks_of(path: Path, box: tuple[float, float, float, float]) -> int:
    """Bytes of the chunks of a cloud-optimized file whose cubes meet a box: COPC 1.0, read byte by byte."""
    data = path.read_bytes()
    middle_x, middle_y, _, half = struct.unpack_from("<4d", data, 429)
    root, size = struct.unpack_from("<QQ", data, 429 + 40)
    total = 0
    for at in range(root, root + size, 32):
        level, x, y, _, _, count, points = struct.unpack_from("<4iQii", data, at)
        side = 2 * half / 2**level
        west, south = middle_x - half + x * side, middle_y - half + y * side
        if points > 0 and west < box[2] and west + side > box[0] and south < box[3] and south + side > box[1]:
            total += count
    return total


def test_of_a_cloud_optimized_file_only_the_chunks_inside_are_read(program: Program, tmp_path: Path) -> None:
    block = cloud(400_000, side=1_000.0)
    path = tmp_path / "big.copc.laz"
    write(path, block)
    where = frame(1, 1, 1_000.0, 730_000.0, 5_101_000.0)
    with site((), [shelf_item(path, carried_bounds(where, by_code(4326)), "2024-01-01", 0.0)]) as island:
        island.add(program, "b", "/blocks/index.geojson", "blocks")
        box = (730_050.0, 5_100_050.0, 730_150.0, 5_100_150.0)
        words = ("--within", ",".join(map(str, box)) + "@EPSG:32626")
        said = program("fetch", "b", *words, "--out", "a.laz", "--json").json
        due = chunks_of(path, box)
        assert due < path.stat().st_size / 2
        assert said["web"]["bytes"] < 1.3 * due + 150_000  # the index, the header and the hierarchy
        program("clip", str(path), *words, "--out", "own.laz")
        inside = np.count_nonzero(
            (block.x >= box[0]) & (block.x < box[2]) & (block.y >= box[1]) & (block.y < box[3])
        )
        assert said["results"][0]["count"] == pytest.approx(inside, abs=40)


def test_a_place_is_known_by_its_name(program: Program, lidar: tuple[Site, Path]) -> None:
    island, _ = lidar
    island.add(program, "places", "/places?q={name}", "gazetteer")
    words = ("--reach", "1.5mi", "--crs", "EPSG:32626", "--cell", "10m", "--json")
    made = program("frame", "--within", "place:High Marrow", *words)
    west, _, east, _ = made.json["frame"]["bounds"]
    assert (east - west) / 2 == pytest.approx(1.5 * 1609.344, abs=12)
    assert (
        "did you mean High Marrow?"
        in program.refuses(
            3,
            "frame",
            "--within",
            "place:High Marow",
            "--reach",
            "1km",
            "--crs",
            "EPSG:32626",
            "--cell",
            "10m",
        )[2]
    )


def test_files_and_folders_here_are_sources_too(program: Program) -> None:
    (program.folder / "sheets").mkdir()
    for n in range(2):
        save(
            program.folder / f"sheets/s{n}.tif",
            raster(np.full((3, 30, 40), 50 + n, np.uint8), where=frame(40, 30, left=730_000 + 400 * n)),
        )
    (program.folder / "s.source.toml").write_text('kind = "file"\naddress = "sheets"\n')
    program("fetch", "s", "--within", "730000,5099700,730800,5100000@EPSG:32626", "--out", "o.tif")
    assert set(np.unique(cells_of(program))) == {50, 51}
    sheet = f'kind = "file"\naddress = "file://{program.folder}/sheets/s1.tif"\n'
    (program.folder / "u.source.toml").write_text(sheet)
    program("fetch", "u", "--within", "730400,5099700,730800,5100000@EPSG:32626", "--out", "u.tif")
    assert set(np.unique(cells_of(program, "u.tif"))) == {51}
    (program.folder / "m.source.toml").write_text('kind = "file"\naddress = "memory://nowhere/x.tif"\n')
    assert program("fetch", "m", "--within", SQUARE, "--out", "p.tif", code=None).code in (3, 6)
