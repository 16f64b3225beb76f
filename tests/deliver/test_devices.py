"""Packs on their way to devices, and devices that accept or reject them."""

from __future__ import annotations

import io
import json
import os
import shutil
import sqlite3
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from program import Program, listing
from rasters import raster, save
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

MINE = """title = "handheld"
kinds = ["mbtiles", "tiles", "zip", "chart"]
folder = "sub/maps"
largest_file = "200kB"
largest_total = "150kB"
file_system = "fat32"
names = "[a-z]{1,8}"
zooms = [10, 15]
tile_cells = [256]
tile_formats = ["png"]
colours = 40
"""


@pytest.fixture
def card(zembrel: Program) -> Program:
    """A photo, heights and a device that is there."""
    rows, columns = np.mgrid[:400, :500]
    where = Frame(by_code(32626), Affine(730_000, 5_100_000, 8.0, -8.0), 500, 400)
    photo = np.stack([rows / 2, columns / 3, 90 + 40 * np.sin(rows / 30)]).astype(np.uint8)
    save(zembrel.folder / "photo.tif", raster(photo, where=where))
    heights = (200 + 180 * np.sin(rows / 60) * np.cos(columns / 90)).astype(np.float32)
    save(zembrel.folder / "dem.tif", raster(heights, where=where))
    (zembrel.folder / "mine.device.toml").write_text(MINE)
    (zembrel.folder / "card").mkdir()
    return zembrel


PACKS = [
    ("phone", ("pyramid", "photo.tif"), "m.mbtiles", "maps"), ("phone", ("pyramid", "photo.tif"), "m.pmtiles", "maps"),
    ("phone", ("globe", "photo.tif"), "m.kmz", "maps"), ("controller", ("pyramid", "photo.tif"), "m/", "basemaps"),
    ("controller", ("pyramid", "photo.tif", "--rows", "bottom"), "m.zip", "basemaps"),
    ("plotter", ("chart", "photo.tif"), "m.kap", "charts"),
    ("engine", ("heightmap", "dem.tif", "--size", "129", "--overlay", "photo.tif", "--overlay-size", "256"), "m/", "terrain"),
]  # fmt: skip


@pytest.mark.parametrize("device, verb, out, folder", PACKS)
def test_a_pack_is_carried_and_the_device_accepts_and_shows_it(
    card: Program, device: str, verb: tuple[str, ...], out: str, folder: str
) -> None:
    said = card("deliver", *verb, "--out", out, "--carry-to", "card", "--device", device, "--json").json
    there = card.folder / "card" / folder / out.rstrip("/")
    for path in (card.folder / out).rglob("*") if out.endswith("/") else [card.folder / out]:
        if path.is_file():
            copy = there / path.relative_to(card.folder / out) if out.endswith("/") else there
            assert copy.read_bytes() == path.read_bytes()
    assert any(fact["fact"] == "carried" and fact["files"] >= 1 for fact in said["checks"])
    verdict = card("standin", "device", device, there, "--figure", "seen.png", "--json").json
    assert verdict["accepted"] and verdict["reasons"] == []
    screen = np.asarray(Image.open(card.folder / "seen.png"))
    assert screen.shape == (800, 1280, 3) and len(np.unique(screen @ (65_536, 256, 1))) > 100
    assert not [path for path in listing(card.folder) if ".zembrel-part" in str(path)]
    assert (
        "exists" in card("deliver", *verb, "--out", out, "--carry-to", "card", "--device", device, code=4).err
    )


@pytest.mark.parametrize(
    "out, words, why",
    [
        ("Big.mbtiles", (), "names are like"), ("x.pmtiles", (), "takes no pmtiles"), ("con.mbtiles", (), "reserved"),
    ],
)  # fmt: skip
def test_what_a_device_never_takes_is_refused_before_it_is_made(
    card: Program, out: str, words: tuple[str, ...], why: str
) -> None:
    said = card.refuses(
        2,
        "deliver",
        "pyramid",
        "photo.tif",
        *words,
        "--out",
        out,
        "--carry-to",
        "card",
        "--device",
        "mine.device.toml",
    )
    assert why in " ".join(said)


BREAKERS = [
    (("pyramid", "photo.tif", "--zooms", "9-12", "--tile-format", "png", "--out", "a.mbtiles"), "zooms are 10 to 15"),
    (("pyramid", "photo.tif", "--zooms", "11-13", "--tile-format", "jpeg", "--out", "b.mbtiles"), "tiles are png"),
    (("pyramid", "photo.tif", "--zooms", "11-12", "--tile-cells", "512", "--tile-format", "png", "--out", "c.mbtiles"), "256 cells"),
    (("pyramid", "photo.tif", "--zooms", "12-15", "--tile-format", "png", "--out", "d.mbtiles"), "a file has"),
    (("pyramid", "photo.tif", "--zooms", "12-15", "--tile-format", "png", "--out", "e/"), "in all"),
    (("chart", "photo.tif", "--out", "f.kap"), "40 colours at most"),
]  # fmt: skip


@pytest.mark.parametrize("words, why", BREAKERS)
def test_a_rule_that_a_pack_breaks_keeps_it_off_the_device(
    card: Program, words: tuple[str, ...], why: str
) -> None:
    said = card("deliver", *words, "--carry-to", "card", "--device", "mine.device.toml", code=4).err
    assert why in said and "is made" in said
    assert not listing(card.folder / "card")


@pytest.mark.parametrize("device, verb, out, folder", PACKS)
def test_a_pack_that_exists_is_carried_as_when_it_is_made(
    card: Program, device: str, verb: tuple[str, ...], out: str, folder: str
) -> None:
    card("deliver", *verb, "--out", out)
    before = listing(card.folder)
    words = ("deliver", "carry", out, "--carry-to", "card", "--device", device)
    assert "not written" in card(*words, "--dry-run").err and listing(card.folder) == before
    said = card(*words, "--json").json
    there = card.folder / "card" / folder / out.rstrip("/")
    sources = [path for path in (card.folder / out.rstrip("/")).rglob("*") if path.is_file()]
    copies = {path: there / path.relative_to(card.folder / out) for path in sources}
    copies = copies or {card.folder / out: there}
    assert all(copy.read_bytes() == path.read_bytes() for path, copy in copies.items())
    assert [fact["files"] for fact in said["checks"] if fact["fact"] == "carried"] == [len(copies)]
    assert card("standin", "device", device, there, "--json").json["accepted"]
    assert "exists" in card(*words, code=4).err
    card(*words, "--replace")
    assert "on the device" in card.refuses(2, *words[:2], there, *words[3:])[0]


@pytest.mark.parametrize("words, why", BREAKERS)
def test_a_pack_that_exists_and_breaks_a_rule_stays_off_the_device(
    card: Program, words: tuple[str, ...], why: str
) -> None:
    card("deliver", *words)
    card("deliver", "pyramid", "photo.tif", "--zooms", "11-11", "--tile-format", "png", "--out", "z.zip")
    carry = ("deliver", "carry", "z.zip", words[-1], "--carry-to", "card", "--device", "mine.device.toml")
    assert why in card(*carry, code=4).err and not listing(card.folder / "card")
    card(*carry[:3], *carry[4:])
    assert listing(card.folder / "card")


def test_what_is_no_sound_pack_is_not_carried(card: Program) -> None:
    to = ("--carry-to", "card", "--device", "phone")
    for out in ("m.mbtiles", "m.pmtiles"):
        card("deliver", "pyramid", "photo.tif", "--out", out)
        whole = (card.folder / out).read_bytes()
        for damage in (whole[: len(whole) // 3], b"", b"x" * 5000):
            (card.folder / out).write_bytes(damage)
            assert "cannot be read" in card.refuses(3, "deliver", "carry", out, *to)[0]
    assert "is not a pack" in card.refuses(3, "deliver", "carry", "photo.tif", *to)[0]
    assert "does not exist" in card.refuses(3, "deliver", "carry", "gone.mbtiles", *to)[0]
    assert "nothing fits" in card.refuses(3, "deliver", "carry", "*.kmz", *to)[0]
    assert "--carry-to" in card.refuses(2, "deliver", "carry", "m.mbtiles")[1]
    (card.folder / "sub").mkdir()
    (card.folder / "sub" / "M.MBTILES").write_bytes(b"")
    assert "two packs" in card.refuses(2, "deliver", "carry", "m.mbtiles", "sub/M.MBTILES", *to)[0]
    engine = card.folder / "engine"
    engine.mkdir()
    (engine / "terrain.toml").write_text('terrain = "../photo.tif"')
    said = card.refuses(3, "deliver", "carry", "engine", "--carry-to", "card", "--device", "engine")
    assert "not in the folder" in said[1] and not listing(card.folder / "card")


def test_a_device_has_to_be_there_and_to_be_known(card: Program) -> None:
    words = ("deliver", "pyramid", "photo.tif", "--out", "m.mbtiles")
    assert "not there" in card.refuses(5, *words, "--carry-to", "gone", "--device", "phone")[0]
    assert "phone" in card.refuses(2, *words, "--carry-to", "card", "--device", "phon")[2]
    assert "--device" in card.refuses(2, *words, "--carry-to", "card")[0]
    assert "--carry-to" in card.refuses(2, *words, "--device", "phone")[0]
    for text in ('title = "x"', MINE.replace("kinds", "kind"), MINE.replace('"chart"]', '"charts"]'), MINE.replace("fat32", "fat"),
                 MINE.replace("[a-z]{1,8}", "[a-z"), MINE.replace("200kB", "much"), MINE.replace("sub/maps", "../x")):  # fmt: skip
        (card.folder / "odd.device.toml").write_text(text)
        card.refuses(3, *words, "--carry-to", "card", "--device", "odd.device.toml")


def test_a_card_that_is_too_small_is_refused_and_one_that_fills_up_keeps_nothing(card: Program) -> None:
    """A file system in memory of half a megabyte, where it can be had; else a limit on the size of files."""
    words = ["deliver", "pyramid", "photo.tif", "--tile-format", "png", "--out", "m.mbtiles"]
    card(*words)
    full = card.folder / "full"
    full.mkdir()
    mounted = os.getuid() == 0 and subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=96k", "none", full], capture_output=True
    ).returncode == 0  # fmt: skip
    if not mounted:
        pytest.skip("a small file system needs the right to mount one")
    try:
        said = card(*words, "--replace", "--carry-to", "full", "--device", "phone", code=5).err
        assert "is no room" in said and not listing(full)
    finally:
        subprocess.run(["umount", full], check=True)
    limited = "import resource, sys; resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000)); import signal;" \
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); from zembrel.deliver.devices.carrying import copy_all;" \
        "from pathlib import Path; copy_all([(Path('m.mbtiles'), Path('card/m.mbtiles'))], False, lambda p: None)"  # fmt: skip
    done = subprocess.run([sys.executable, "-c", limited], cwd=card.folder, capture_output=True, text=True)
    assert "ResourceError" in done.stderr and not listing(card.folder / "card")


def broken_metadata(path: Path) -> None:
    with sqlite3.connect(path) as file:
        file.execute("DELETE FROM metadata WHERE name = 'format'")


def broken_tile(path: Path) -> None:
    with sqlite3.connect(path) as file:
        tables = [row[0] for row in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        held = next(
            t for t in tables if "tile_data" in {row[1] for row in file.execute(f"PRAGMA table_info({t})")}
        )
        file.execute(f"UPDATE {held} SET tile_data = x'00'")


def cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-700])


def without_a_picture(path: Path) -> None:
    whole = path.read_bytes()
    path.write_bytes(b"")
    (path.parent / "whole.kmz").write_bytes(whole)
    with zipfile.ZipFile(path.parent / "whole.kmz") as old, zipfile.ZipFile(path, "w") as new:
        for name in old.namelist():
            if not name.endswith((".png", ".jpg")):
                new.writestr(name, old.read(name))


def other_order(path: Path) -> None:
    told = path / "terrain.toml"
    told.write_text(told.read_text().replace("little", "big"))


def odd_size(path: Path) -> None:
    (path / "terrain.r16").write_bytes(bytes(2 * 100 * 100))


def webp(path: Path) -> None:
    tile = next(path.rglob("*.jpg"), None) or next(path.rglob("*.png"))
    tile.rename(tile.with_suffix(".webp"))


def a_jpeg(path: Path) -> bytes:
    """One of the tiles as JPEG."""
    held = io.BytesIO()
    Image.new("RGB", (256, 256), "teal").save(held, "JPEG")
    return held.getvalue()


def mixed(path: Path) -> None:
    """One tile of another format than is promised."""
    if path.is_dir():
        next(path.rglob("*.png")).write_bytes(a_jpeg(path))
        return
    with sqlite3.connect(path) as file:
        place = file.execute("SELECT rowid FROM pictures LIMIT 1").fetchone()
        file.execute("UPDATE pictures SET tile_data = ? WHERE rowid = ?", (a_jpeg(path), *place))


def mixed_in_one_file(path: Path) -> None:
    """Its header promises JPEG."""
    data = bytearray(path.read_bytes())
    data[99] = 3
    path.write_bytes(bytes(data))


def without_a_level(path: Path) -> None:
    """The zoom level in the middle is gone."""
    levels = sorted(int(folder.name) for folder in path.iterdir() if folder.is_dir())
    shutil.rmtree(path / str(levels[1]))


def with_a_hole(path: Path) -> None:
    """A tile that has finer ones below it is gone."""
    levels = sorted(int(folder.name) for folder in path.iterdir() if folder.is_dir())
    next((path / str(levels[-2])).rglob("*.png")).unlink()


def swapped(path: Path) -> None:
    raw = np.fromfile(path / "terrain.r16", "<u2")
    raw.byteswap().tofile(path / "terrain.r16")


def no_polynomial(path: Path) -> None:
    path.write_bytes(path.read_bytes().replace(b"WPX/", b"WPZ/"))


def moved_point(path: Path) -> None:
    data = path.read_bytes()
    at = data.index(b"REF/1,0,0,") + 6
    path.write_bytes(data[:at] + b"9" + data[at + 1 :])


@pytest.mark.parametrize(
    "device, verb, out, harm",
    [
        ("phone", ("pyramid", "photo.tif"), "m.mbtiles", broken_metadata), ("phone", ("pyramid", "photo.tif"), "m.mbtiles", broken_tile),
        ("phone", ("pyramid", "photo.tif"), "m.pmtiles", cut), ("phone", ("globe", "photo.tif"), "m.kmz", cut),
        ("phone", ("globe", "photo.tif"), "m.kmz", without_a_picture), ("controller", ("pyramid", "photo.tif"), "m/", webp),
        ("phone", ("pyramid", "photo.tif"), "m.mbtiles", mixed), ("phone", ("pyramid", "photo.tif"), "m.pmtiles", mixed_in_one_file),
        ("controller", ("pyramid", "photo.tif"), "m/", mixed), ("controller", ("pyramid", "photo.tif"), "m/", without_a_level),
        ("controller", ("pyramid", "photo.tif"), "m/", with_a_hole),
        ("engine", ("heightmap", "dem.tif", "--size", "129"), "m/", swapped),
        ("plotter", ("chart", "photo.tif"), "m.kap", cut), ("plotter", ("chart", "photo.tif"), "m.kap", no_polynomial),
        ("plotter", ("chart", "photo.tif"), "m.kap", moved_point),
        ("engine", ("heightmap", "dem.tif", "--size", "129"), "m/", other_order),
        ("engine", ("heightmap", "dem.tif", "--size", "129"), "m/", odd_size),
    ],
)  # fmt: skip
def test_a_device_rejects_what_breaks_its_rules_and_says_why(
    card: Program, device: str, verb: tuple[str, ...], out: str, harm: Callable[[Path], None]
) -> None:
    card("deliver", *verb, "--out", out)
    assert card("standin", "device", device, out).out.startswith(f"{device} accepted")
    harm(card.folder / out.rstrip("/"))
    said = card("standin", "device", device, out, "--figure", "seen.png", code=1).out
    assert said.startswith(f"{device} rejected") and len(said.splitlines()[1]) > 20
    assert not (card.folder / "seen.png").exists()


def test_a_stand_in_takes_a_name_and_a_pack(card: Program) -> None:
    assert "phone" in card.refuses(2, "standin", "device", "fone", "dem.tif")[2]
    card.refuses(2, "standin", "device", "phone")
    card.refuses(3, "standin", "device", "phone", "gone.mbtiles")
    assert json.loads(card("standin", "device", "phone", "dem.tif", "--json", code=1).out)["reasons"]


@pytest.mark.parametrize(
    "device, verb, out",
    [
        ("phone", ("pyramid", "photo.tif"), "m.mbtiles"), ("phone", ("pyramid", "photo.tif"), "m.pmtiles"),
        ("phone", ("globe", "photo.tif"), "m.kmz"), ("controller", ("pyramid", "photo.tif"), "m.zip"),
        ("plotter", ("chart", "photo.tif"), "m.kap"),
    ],
)  # fmt: skip
def test_no_device_stumbles_over_a_damaged_pack(
    card: Program, device: str, verb: tuple[str, ...], out: str
) -> None:
    card("deliver", *verb, "--out", out)
    whole, chance = (card.folder / out).read_bytes(), np.random.default_rng(8)
    for _ in range(12):
        data = bytearray(whole)
        for at in chance.integers(0, min(len(data), 6000), 9).tolist():
            data[at] = int(chance.integers(256))
        (card.folder / out).write_bytes(bytes(data))
        assert card("standin", "device", device, out, code=None).code in (0, 1)
