"""draw: what stands in a picture is where it should be, whatever its size and format."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from program import Program
from rasters import frame, raster, save
from zembrel.draw.ramps import colour_map
from zembrel.draw.ticks import _Degrees, _Thousands
from zembrel.raster.legend import Legend, LegendEntry


@pytest.fixture
def ground(zembrel: Program) -> Program:
    column, row = np.meshgrid(np.arange(400.0), np.arange(300.0))
    save(zembrel.folder / "h.tif", raster((column + row).astype(np.float32), where=frame(400, 300), unit="m"))
    red, blue = np.zeros((3, 300, 400), np.uint8), np.zeros((3, 300, 400), np.uint8)
    red[0], blue[2] = 220, 220
    blue[:, 140:160, 190:210] = 255
    save(zembrel.folder / "red.tif", raster(red))
    save(zembrel.folder / "blue.tif", raster(blue))
    return zembrel


def seen(path: Path) -> np.ndarray:
    return np.asarray(Image.open(path).convert("RGB")).astype(int)


def test_halves_show_the_left_of_one_and_the_right_of_the_other(ground: Program) -> None:
    said = ground("draw", "red.tif", "blue.tif", "--halves", "--out", "p.png")
    picture = seen(ground.folder / "p.png")
    red = (picture[..., 0] > 180) & (picture[..., 2] < 60)
    blue = (picture[..., 2] > 180) & (picture[..., 0] < 60)
    assert red.sum() > 100_000 and blue.sum() == pytest.approx(red.sum(), rel=0.05)
    assert np.flatnonzero(red.any(0)).max() < np.flatnonzero(blue.any(0)).min() + 4 and "halves" in said.err
    assert ground.refuses(2, "draw", "red.tif", "--halves", "--out", "q.png")


def test_several_rasters_stand_side_by_side_without_touching(ground: Program) -> None:
    ground("draw", "red.tif", "blue.tif", "--out", "p.png")
    picture = seen(ground.folder / "p.png")
    red = (picture[..., 0] > 180) & (picture[..., 1] < 60) & (picture[..., 2] < 60)
    blue = (picture[..., 2] > 180) & (picture[..., 1] < 60) & (picture[..., 0] < 60)
    assert min(red.sum(), blue.sum()) > 60_000 and not (red.any(0) & blue.any(0)).any()


def test_a_detail_shows_a_pixel_for_each_cell(ground: Program) -> None:
    ground(
        "draw",
        "blue.tif",
        "--detail",
        "732000,5098500",
        "--inset",
        "square:731000,5099000,300",
        "--out",
        "p.png",
    )
    picture = seen(ground.folder / "p.png")
    white = (picture > 250).all(axis=2)
    runs = [
        len(run) for line in white[:400, :700] for run in "".join("#" if v else " " for v in line).split()
    ]
    assert 20 in runs, "the white square of 20 cells is 20 pixels wide there"
    assert (abs(picture - [0xC2, 0x18, 0x5B]).max(axis=2) < 40).sum() > 800, (
        "insets and their ground are marked"
    )
    assert "lies outside" in ground.refuses(3, "draw", "blue.tif", "--detail", "0,0", "--out", "q.png")[0]


def test_lines_grids_and_words_are_drawn_as_text_that_can_be_searched(ground: Program) -> None:
    words = (
        "--contours",
        "50",
        "--grid",
        "30arcsec",
        "--attribution",
        "path trust 2027",
        "--shade",
        "--title",
        "Hills",
    )
    said = ground("draw", "h.tif", *words, "--out", "p.svg")
    assert "contours every 50" in said.err and "graticule every 0°00′30″" in said.err
    text = (ground.folder / "p.svg").read_text("utf-8")
    for word in ("path trust 2027", "Hills", "easting (m)", "731,000", "5,099,000", "N"):
        assert f"<!-- {word} -->" in text, word
    assert re.search(r"<!-- 4\d°\d\d′[03]0″N -->", text) and re.search(r"<!-- 2[34]°\d\d′[03]0″W -->", text)
    assert not re.search(r"<!-- \S*1e\+?\d", text), "no scientific offset"
    ground("draw", "h.tif", "--grid", "1km", "--out", "p.pdf")
    assert (ground.folder / "p.pdf").read_bytes()[:5] == b"%PDF-"


def test_the_terminal_shows_true_colours_as_wide_as_it_is(ground: Program) -> None:
    said = ground("draw", "red.tif", "--terminal", COLUMNS="60")
    lines = said.out.splitlines()
    plain = [re.sub(r"\x1b\[[\d;]*m", "", line) for line in lines]
    assert {len(line) for line in plain[:-1]} == {60} and plain[-1] == "EPSG:32626 WGS 84 / UTM zone 26N"
    assert "\x1b[38;2;220;0;0;48;2;220;0;0m" in lines[0] and set(plain[0]) == {"▀"}
    assert len(plain) - 1 in (22, 23), "two rows a line, as the ground is"
    dull = ground("draw", "h.tif", "--terminal", COLUMNS="60", NO_COLOR="1").out
    assert "\x1b" not in dull and re.search(r"^\d \S* .*@ 69\d m$", dull, re.MULTILINE)


def test_words_of_files_are_shown_as_they_are_and_steer_nothing(ground: Program) -> None:
    legend = Legend.of([LegendEntry(1, "wo\x1b[31mod", (1, 2, 3)), LegendEntry(0, "$a^{$", (9, 9, 9))])
    codes = (np.arange(1200).reshape(30, 40) % 2).astype(np.uint8)
    save(ground.folder / "k$b^{$.tif", raster(codes, where=frame(40, 30), legend=legend))
    shown = ground("draw", "k$b^{$.tif", "--terminal").out
    assert "wo?[31mod" in shown and "\x1b[31m" not in shown
    for verb in (("draw", "--out"), ("describe", "--page")):
        ground(verb[0], "k$b^{$.tif", verb[1], f"{verb[0]}.svg")
        assert "<!-- k$b^{$ -->" in (ground.folder / f"{verb[0]}.svg").read_text("utf-8")


def test_lines_stand_on_maps_of_features_too_and_what_would_do_nothing_is_refused(ground: Program) -> None:
    square = {"type": "Polygon", "coordinates": [[[-24, 46], [-23.9, 46], [-23.9, 46.1], [-24, 46]]]}
    ground.folder.joinpath("f.geojson").write_text(json.dumps(square))
    assert "lines every 0.02" in ground("draw", "f.geojson", "--grid", "0.02deg", "--out", "f.png").err
    assert "no lines" in ground("draw", "f.geojson", "--grid", "5000", "--out", "none.png").err
    assert ground.refuses(2, "draw", "f.geojson", "--contours", "3", "--out", "g.png")
    assert "excludes --out" in ground.refuses(2, "draw", "h.tif", "--terminal", "--out", "g.png")[0]


@pytest.mark.parametrize("name", ["relief", "viridis", "gray"])
def test_ramps_rise_in_even_steps_of_lightness(name: str) -> None:
    rgb = np.asarray(colour_map(name)(np.linspace(0, 1, 101)))[:, :3]
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    y = linear @ [0.2126, 0.7152, 0.0722]
    lightness = np.where(y > 0.008856, 116 * np.cbrt(y) - 16, 903.3 * y)  # CIE 1976
    steps = np.diff(lightness)
    assert (steps > 0).all() and steps.max() < 2.5 * steps.min() + 0.3


def test_numbers_on_axes_are_read_at_a_glance() -> None:
    class Axis:
        def __init__(self, *places: float) -> None:
            self.places = places

        def get_majorticklocs(self) -> tuple[float, ...]:
            return self.places

    assert _Thousands(Axis(5_096_000, 5_098_000))(5_096_000) == "5,096,000"
    assert [_Thousands(Axis(0, 0.05))(value) for value in (0, 0.05, -0.05)] == ["0.00", "0.05", "-0.05"]
    assert [_Degrees(Axis(-24, -23.9), "EW")(value) for value in (-24, 0, 190)] == [
        "24.0°W",
        "0.0°",
        "170.0°W",
    ]
    assert _Degrees(Axis(46, 47), "NS")(46) == "46°N"


@pytest.mark.parametrize(
    "words, what",
    [
        (("--contours", "0"), "--contours 0"), (("--contours", "inf"), "--contours inf"), (("--grid", "0arcsec"), "--grid 0arcsec"), (("--grid", "2parsecs"), "unknown unit"), (("--detail", "1"), "--detail 1"),
        (("--inset", "square:1,2"), "square"), (("--halves",), "halves of 1"), (tuple(["--detail", "732000,5098500"] * 5), "more than 4"),
    ],
)  # fmt: skip
def test_what_cannot_be_drawn_is_refused(ground: Program, words: tuple[str, ...], what: str) -> None:
    assert what in ground.refuses(2, "draw", "h.tif", *words, "--out", "p.png")[0]
