"""mosaic: what it tells of sheets, and how it brings unlike ones together."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import ndimage

from program import Program
from rasters import ArrayRaster, frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band
from zembrel.raster.views.palette import RGB

GROUND = ndimage.gaussian_filter(np.random.default_rng(4).normal(0, 1, (3, 300, 420)), (0, 3, 3)) * 300 + 120
GROUND = np.clip(GROUND, 10, 250)


@pytest.fixture
def program(tmp_path: Path) -> Program:
    return Program(tmp_path)


def sheet(
    program: Program, name: str, left: int, top: int, tone: tuple[float, float] = (1, 0), **more: Any
) -> Path:
    """A photo of 180 x 160 cells of the ground in a tone of its own."""
    part = GROUND[:, top : top + 160, left : left + 180] * tone[0] + tone[1]
    where = frame(180, 160, left=730_000.0 + 10 * left, top=5_100_000.0 - 10 * top)
    view = ArrayRaster(where, more.pop("bands", RGB), np.clip(np.floor(part + 0.5), 0, 255).astype(np.uint8))
    return save(program.folder / name, view, **more)


def read(path: Path) -> Any:
    source = open_raster(path)
    return source.cells(source.frame.pane).cells


def test_tones_are_matched_and_the_overlaps_are_told(program: Program) -> None:
    for n, (left, top, tone) in enumerate(
        ((0, 0, (0.8, 20)), (150, 0, (1, 0)), (0, 130, (1.1, -15)), (150, 130, (0.9, 5)))
    ):
        sheet(program, f"s{n}.tif", left, top, tone)
    plain = program("mosaic", "s*.tif", "--out", "plain.tif", "--json").json
    said = program("mosaic", "s*.tif", "--match-tone", "--table", "o.csv", "--out", "toned.tif")
    assert "tone matched: overlaps differed" in said.err
    before = [entry["rms"] for entry in plain["overlaps"]]
    with (program.folder / "o.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert {(row["first"], row["second"]) for row in rows} >= {
        ("s0", "s1"),
        ("s0", "s2"),
        ("s1", "s3"),
        ("s2", "s3"),
    }
    assert max(float(row["rms"]) for row in rows) < 1.6 < max(before) / 4
    assert max(abs(float(row["shift_x"] or 0)) for row in rows) < 1


def test_a_shifted_sheet_and_an_odd_one_are_named(program: Program) -> None:
    sheet(program, "a.tif", 0, 0)
    sheet(program, "b.tif", 120, 0)
    moved = open_raster(sheet(program, "c.tif", 0, 100))
    assert moved.frame.columns == 180
    program("label", "c.tif", "--shift", "30,0")
    said = program("mosaic", "a.tif", "b.tif", "c.tif", "--out", "m.tif").err
    assert "c shifted by" in said and " cells against" in said
    fine = raster(random_cells(3, 100, 100), where=frame(100, 100, cell=5.0))
    save(program.folder / "d.tif", fine)
    said = program("mosaic", "a.tif", "b.tif", "d.tif", "--out", "n.tif").err
    assert "cell of d is 5 m, of most 10 m" in said


def test_gaps_are_told(program: Program) -> None:
    for n, (left, top) in enumerate(((0, 0), (100, 140), (240, 0), (100, 0))):
        sheet(program, f"s{n}.tif", left, top)
    assert "groups" not in program("mosaic", "s*.tif", "--out", "m.tif").err
    (program.folder / "s3.tif").unlink()
    (program.folder / "s1.tif").unlink()
    assert "the sheets lie in 2 groups apart" in program("mosaic", "s*.tif", "--out", "n.tif").err
    ring = [(0, 0), (0, 150), (0, 300), (170, 0), (340, 0), (170, 300), (340, 150), (340, 300)]
    for n, (left, top) in enumerate(ring):
        where = frame(180, 160, left=740_000.0 + 10 * left, top=5_100_000.0 - 10 * top)
        save(program.folder / f"r{n}.tif", raster(random_cells(3, 160, 180), where=where))
    said = program("mosaic", "r*.tif", "--out", "o.tif").err
    assert "the sheets leave 1 hole" in said


def test_a_dark_collar_is_told_unless_it_is_trimmed(program: Program) -> None:
    cells = random_cells(3, 300, 300)
    cells[:, :80], cells[:, :, :60] = 1, 1
    save(program.folder / "a.tif", raster(cells))
    save(program.folder / "b.tif", raster(random_cells(3, 300, 300), where=frame(300, 300, left=733_000.0)))
    assert (
        "dark collar around a: --trim-collar drops it"
        in program("mosaic", "a.tif", "b.tif", "--out", "m.tif").err
    )
    said = program("mosaic", "a.tif", "b.tif", "--trim-collar", "--out", "n.tif").err
    assert "dark collar" not in said and "collars trimmed from 1 of 2" in said
    assert "no collar found around b.tif" in said and re.search(
        r"cells of collars removed \(a\.tif [\d,]+\)", said
    )


def test_bands_are_matched_by_name(program: Program) -> None:
    sheet(program, "rgb.tif", 0, 0)
    bgr = tuple(reversed(RGB))
    extra = np.concatenate([GROUND[::-1, :160, 150:330], np.full((1, 160, 180), 9.0)]).astype(np.uint8)
    where = frame(180, 160, left=731_500.0)
    save(program.folder / "bgrn.tif", ArrayRaster(where, (*bgr, Band("nir", "uint8")), extra))
    said = program("mosaic", "rgb.tif", "bgrn.tif", "--out", "m.tif").err
    assert "bands red, green, blue (by name, others left out)" in said
    np.testing.assert_array_equal(
        read(program.folder / "m.tif")[:, :, 200:], np.floor(GROUND[:, :160, 200:330])
    )


def test_sheets_are_ordered_by_a_field_of_their_index(program: Program) -> None:
    years = {"a.tif": 2019, "b.tif": 2024, "c.tif": 2021}
    features = []
    for n, (name, year) in enumerate(years.items()):
        save(program.folder / name, raster(np.full((20, 20), n + 1, np.uint8)))
        shape = {"type": "Point", "coordinates": [0, 0]}
        features.append(
            {"type": "Feature", "properties": {"path": f"old/{name}", "year": year}, "geometry": shape}
        )
    text = json.dumps({"type": "FeatureCollection", "features": features})
    (program.folder / "index.geojson").write_text(text)
    for order, value in (("year@index.geojson", 1), ("-year@index.geojson", 2)):
        program(
            "mosaic",
            "a.tif",
            "b.tif",
            "c.tif",
            "--order",
            order,
            "--average-codes",
            "--replace",
            "--out",
            "m.tif",
        )
        assert (read(program.folder / "m.tif") == value).all()
    assert (
        "no field 'yaer'"
        in program.refuses(3, "mosaic", "a.tif", "b.tif", "--order", "yaer@index.geojson", "--out", "x.tif")[
            0
        ]
    )
    program.refuses(2, "mosaic", "a.tif", "b.tif", "--order", "year", "--out", "x.tif")
    save(program.folder / "d.tif", raster(np.ones((20, 20), np.uint8)))
    said = program.refuses(3, "mosaic", "a.tif", "d.tif", "--order", "year@index.geojson", "--out", "x.tif")
    assert "says nothing of d.tif" in said[0]


def test_codes_are_not_blended(program: Program) -> None:
    legend = Legend.of([LegendEntry(1, "sea", (1, 2, 3)), LegendEntry(4, "land", (4, 5, 6))])
    for name in ("a.tif", "b.tif"):
        save(program.folder / name, raster((random_cells(9, 9) % 2 * 3 + 1).astype(np.uint8), legend=legend))
    for words in (("--overlap", "mean"), ("--overlap", "feather"), ("--match-tone",)):
        assert "class codes" in program.refuses(2, "mosaic", "a.tif", "b.tif", *words, "--out", "x.tif")[0]
    program.refuses(2, "mosaic", "a.tif", "b.tif", "--overlap", "fist", "--out", "x.tif")
    program.refuses(
        2, "mosaic", "a.tif", "b.tif", "--overlap", "feather:1000km", "--average-codes", "--out", "x.tif"
    )


def test_few_whole_numbers_count_as_classes(program: Program) -> None:
    save(program.folder / "c.tif", raster((random_cells(60, 60) % 5).astype(np.int16)))
    said = program("resample", "c.tif", "--cell", "40m", "--out", "m.tif").err
    assert "method mode (classes: 5 values seen, coarser)" in said
    assert (
        "average class codes: 5 values seen"
        in program.refuses(2, "resample", "c.tif", "--cell", "40m", "--method", "mean", "--out", "x.tif")[0]
    )
    program("resample", "c.tif", "--cell", "40m", "--method", "mean", "--average-codes", "--out", "n.tif")
    save(program.folder / "h.tif", raster((random_cells(60, 60) % 5).astype(np.int16), unit="m"))
    assert "continuous" in program("resample", "h.tif", "--cell", "40m", "--out", "o.tif").err
