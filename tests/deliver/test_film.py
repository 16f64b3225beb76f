"""Films, taken apart by the packages that play them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image, ImageSequence

from program import Program
from rasters import ArrayRaster, raster, save
from zembrel.deliver.film.dates import date_in
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.model import Band

WHERE = Frame(by_code(32626), Affine(730_000, 5_100_000, 10.0, -10.0), 120, 80)
YEARS = (2019, 2020, 2021, 2023)  # 2022 is missing


def stills(path: Path) -> list[Any]:
    """All pictures of a film."""
    if path.suffix == ".mp4":
        av = pytest.importorskip("av", reason="films of MP4 are read by PyAV: pip install av")
        with av.open(str(path)) as film:
            return [frame.to_ndarray(format="rgb24") for frame in film.decode(video=0)]
    with Image.open(path) as film:
        return [np.asarray(frame.convert("RGB")) for frame in ImageSequence.Iterator(film)]


@pytest.fixture
def years(zembrel: Program) -> Program:
    """Heights of four years, each of one value that grows by 10, but for a bright column that moves."""
    (zembrel.folder / "years").mkdir()
    for n, year in enumerate(YEARS):
        cells = np.full((80, 120), 10.0 * (n + 1), np.float32)
        cells[:, 20 * n : 20 * n + 10] = 100
        save(zembrel.folder / f"years/level_{year}.tif", raster(cells, where=WHERE))
    return zembrel


@pytest.mark.parametrize("ending", [".mp4", ".gif", ".webp"])
def test_pictures_follow_each_other_in_the_order_of_their_dates(years: Program, ending: str) -> None:
    if ending == ".mp4":
        pytest.importorskip("av", reason="films of MP4 are made by PyAV: pip install av")
    out = f"f{ending}"
    words = ("deliver", "film", "years/", "--ramp", "grey", "--no-stamp", "--size", "240", "--rate", "5")
    said = years(*words, "--missing", "skip", "--out", out, "--json").json
    found = stills(years.folder / out)
    assert len(found) == len(YEARS) == said["results"][0]["count"]
    assert all(picture.shape == (160, 240, 3) for picture in found)
    for n, picture in enumerate(found):
        column = picture[80, :, 0].astype(int)
        bright = column.max() if column[40 * n + 10] > column[200] else column.min()
        assert abs(int(column[40 * n + 10]) - int(bright)) < 12, "the stripe is where it is that year"
    plain = [int(picture[80, 230, 0]) for picture in found]
    steps = np.diff(plain)
    assert (np.sign(steps) == np.sign(steps[0])).all() and abs(steps).min() > 8, (
        "one range for all: years differ"
    )


def test_a_missing_year_is_held_or_skipped_and_blends_lie_between(years: Program) -> None:
    words = ("deliver", "film", "years/", "--no-stamp", "--size", "120", "--out")
    said = years(*words, "a.webp", "--json").json
    assert {
        k: v for f in said["chose"] if f["fact"] == "dates_held" for k, v in f.items() if k != "text"
    } == {"fact": "dates_held", "dates": 1}
    held = stills(years.folder / "a.webp")
    # five pictures of a quarter of a second; the held one is stored once and shown twice as long
    with Image.open(years.folder / "a.webp") as film:
        durations = [frame.load() and frame.info["duration"] for frame in ImageSequence.Iterator(film)]
    assert (len(held), sum(durations)) == (4, 1250)
    years(*words, "b.webp", "--missing", "skip", "--fade", "3")
    blended = stills(years.folder / "b.webp")
    assert len(blended) == 4 + 3 * 3
    middle = (blended[0].astype(int) + blended[4]) / 2
    assert np.abs(blended[2] - middle).mean() < 6


def test_bands_are_pictures_too_and_dates_are_stamped(zembrel: Program) -> None:
    bands = tuple(Band(f"depth 2024-0{n}", "float32") for n in range(1, 5))
    cells = np.stack([np.full((80, 120), float(n), np.float32) for n in range(4)])
    save(zembrel.folder / "months.tif", ArrayRaster(WHERE, bands, cells))
    zembrel("deliver", "film", "months.tif", "--ramp", "grey", "--size", "480", "--out", "stamped.gif")
    zembrel(
        "deliver",
        "film",
        "months.tif",
        "--ramp",
        "grey",
        "--size",
        "480",
        "--no-stamp",
        "--out",
        "plain.gif",
    )
    for with_date, without in zip(
        stills(zembrel.folder / "stamped.gif"), stills(zembrel.folder / "plain.gif"), strict=True
    ):
        away = np.abs(with_date.astype(int) - without).sum(axis=2) > 60
        rows, columns = np.nonzero(away)
        assert away.any() and rows.min() > 250 and columns.max() < 200, "it stands at the lower left"
    said = zembrel("deliver", "film", "months.tif", "--most", "2", "--size", "64", "--out", "few.gif").err
    assert "2 pictures left out" in said and "2024-01 to 2024-04" in said


@pytest.mark.parametrize(
    "name, date",
    [
        ("S2_20240501_x", "2024-05-01"), ("ortho-2023-11-30", "2023-11-30"), ("level_2019", "2019"), ("ndvi 2024_06", "2024-06"),
        ("tile_123456", None), ("a20240231b", "None"), ("m4", None), ("2019_to_2021", "2021"),
    ],
)  # fmt: skip
def test_dates_are_found_in_names(name: str, date: str | None) -> None:
    found = date_in(name)
    assert (None if found is None else str(found)) in (date, None if date == "None" else date)


def test_a_film_that_cannot_be_is_refused(years: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    for code, words in (
        (2, ("--out", "f.avi")), (2, ("--rate", "0", "--out", "f.gif")), (2, ("--size", "4", "--out", "f.gif")), (2, ("--missing", "blank", "--out", "f.gif")),
        (2, ("--rate", "30", "--fade", "5", "--out", "f.gif")), (2, ("--cell", "1500m", "--out", "f.gif")), (2, ("--fade", "99", "--out", "f.gif")), (2, ("--most", "1", "--out", "f.gif")), (3, ("--within", "0,0,9,9", "--out", "f.gif")),
        (4, ("--ceiling", "1kB", "--out", "f.gif")),
    ):  # fmt: skip
        years.refuses(code, "deliver", "film", "years/", *words)
    years.refuses(2, "deliver", "film", "years/level_2019.tif", "--out", "f.gif")


def test_without_the_package_for_it_an_mp4_is_refused_with_the_way_to_it(years: Program) -> None:
    (years.folder / "no").mkdir()
    (years.folder / "no/av.py").write_text("raise ImportError('not here')\n")
    said = years.apart(
        "deliver", "film", "years/", "--out", "f.mp4", code=2, PYTHONPATH=str(years.folder / "no")
    )
    assert "zembrel[film]" in said.err
