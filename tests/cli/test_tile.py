"""Sheets: they meet without gap or overlap, are named as asked, and an interrupted run goes on."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.features.files import read_features
from zembrel.formats import open_raster


@pytest.fixture
def program(tmp_path: Path) -> Program:
    save(tmp_path / "whole.tif", raster(random_cells(3, 130, 170)))
    return Program(tmp_path)


def put_together(folder: Path) -> Any:
    """All sheets in one array on the whole's lattice; NaN where no sheet is, a failure where two are."""
    whole = frame(170, 130)
    cells = np.full((3, 130, 170), np.nan)
    for path in sorted(folder.glob("*.tif")):
        sheet = open_raster(path)
        offset = whole.offset_to(sheet.frame)
        assert offset is not None
        block = sheet.cells(sheet.frame.pane)
        part = sheet.frame.pane.moved(*offset)
        here = cells[:, part.top : part.bottom, part.left : part.right]
        valid = block.valid_of(0)
        assert np.isnan(here[:, valid]).all(), path
        here[:, valid] = block.cells[:, valid]
    return cells


@pytest.mark.parametrize(
    "way, count",
    [
        (("--split", "4x3"), 12),
        (("--split", "7"), 49),
        (("--cells", "64"), 9),
        (("--cells", "50x130"), 4),
        (("--size", "500m"), 12),
        (("--size", "333m/777m"), 12),
    ],
)
def test_sheets_make_up_the_whole(program: Program, way: tuple[str, ...], count: int) -> None:
    said = program("tile", "whole.tif", *way, "--out", "sheets/", "--json").json
    assert len(list((program.folder / "sheets").glob("[!.]*"))) == count == len(said["sheets"])
    np.testing.assert_array_equal(put_together(program.folder / "sheets"), random_cells(3, 130, 170))


def test_edges_of_ground_sizes_stand_on_whole_multiples(program: Program) -> None:
    program("tile", "whole.tif", "--size", "500m", "--name", "{west:.0f}_{north:.0f}", "--out", "sheets/")
    names = {path.stem for path in (program.folder / "sheets").glob("[!.]*")}
    assert {"730000_5100000", "730500_5100000", "731500_5099000"} <= names


def test_polygons_that_share_edges_cut_without_gap_or_overlap(program: Program) -> None:
    ring = [[729_990, 5_101_000], [730_903, 5_101_000], [730_411, 5_098_000], [729_990, 5_098_000]]
    other = [ring[1], [732_000, 5_101_000], [732_000, 5_098_000], ring[2]]
    shapes = [
        {
            "type": "Feature",
            "properties": {"name": name},
            "geometry": {"type": "Polygon", "coordinates": [[*r, r[0]]]},
        }
        for name, r in (("west / wood", ring), ("east", other))
    ]
    crs = {"type": "name", "properties": {"name": "EPSG:32626"}}
    text = json.dumps({"type": "FeatureCollection", "crs": crs, "features": shapes})
    (program.folder / "parcels.geojson").write_text(text)
    program("tile", "whole.tif", "--by", "parcels.geojson", "--out", "sheets/")
    assert {path.name for path in (program.folder / "sheets").glob("[!.]*")} == {
        "whole_west _ wood.tif",
        "whole_east.tif",
    }
    np.testing.assert_array_equal(put_together(program.folder / "sheets"), random_cells(3, 130, 170))


@pytest.mark.parametrize("margin, cells", [("5", 5), ("45m", 5), ("50m", 5)])
def test_margins_reach_into_the_neighbours(program: Program, margin: str, cells: int) -> None:
    program("tile", "whole.tif", "--split", "2x2", "--margin", margin, "--out", "s/")
    sheet = open_raster(program.folder / "s" / "whole_1_1.tif")
    assert (sheet.frame.columns, sheet.frame.rows) == (85 + cells, 65 + cells)
    whole = random_cells(3, 130, 170)[:, : 65 + cells, : 85 + cells]
    np.testing.assert_array_equal(sheet.cells(sheet.frame.pane).cells, whole)


@pytest.mark.parametrize("ending", ["gpkg", "geojson"])
def test_the_index_lists_what_was_written(program: Program, ending: str) -> None:
    program("tile", "whole.tif", "--split", "3x2", "--index", f"s/index.{ending}", "--out", "s/")
    table = read_features(program.folder / "s" / f"index.{ending}")
    assert [row["path"] for row in table.rows()] == [f"whole_{r}_{c}.tif" for r in (1, 2) for c in (1, 2, 3)]
    crs = frame(1, 1).crs
    assert crs is not None
    area = sum(shape.area for shape in table.to(crs).geometries)
    assert area == pytest.approx(170 * 130 * 100, rel=1e-5)
    ordered = program(
        "mosaic", "s/", "--order", f"-number@s/index.{ending}", "--out", "again.tif", "--json"
    ).json
    assert ordered["inputs"][0].endswith("whole_2_3.tif")


def test_empty_sheets_are_left_out(program: Program) -> None:
    valid = np.zeros((130, 170), bool)
    valid[:60, 100:] = True
    save(program.folder / "part.tif", raster(random_cells(130, 170), valid, nodata=0))
    said = program("tile", "part.tif", "--split", "2x2", "--out", "s/")
    assert [path.name for path in (program.folder / "s").glob("[!.]*")] == ["part_1_2.tif"]
    assert "3 empty sheets left out" in said.err
    program("tile", "part.tif", "--split", "2x2", "--keep-empty", "--replace", "--out", "s/")
    assert len(list((program.folder / "s").glob("[!.]*"))) == 4


def test_a_run_goes_on_where_it_was_stopped(program: Program) -> None:
    """Sound sheets stay as they are; a broken one, one of another frame and a missing one are made again."""
    program("tile", "whole.tif", "--split", "3x2", "--out", "s/")
    folder = program.folder / "s"
    before = {path.name: path.stat().st_mtime_ns for path in folder.glob("[!.]*")}
    (folder / "whole_1_1.tif").unlink()
    content = (folder / "whole_1_2.tif").read_bytes()
    (folder / "whole_1_2.tif").write_bytes(content[: len(content) // 2])
    (folder / "whole_1_3.tif").write_bytes((folder / "whole_2_3.tif").read_bytes())
    assert program.refuses(4, "tile", "whole.tif", "--split", "3x2", "--out", "s/")[0].endswith("exists")
    said = program("tile", "whole.tif", "--split", "3x2", "--resume", "--out", "s/", "--json").json
    assert said["kept"] == 3
    after = {path.name: path.stat().st_mtime_ns for path in folder.glob("[!.]*")}
    assert all(after[f"whole_2_{n}.tif"] == before[f"whole_2_{n}.tif"] for n in (1, 2, 3))
    np.testing.assert_array_equal(put_together(folder), random_cells(3, 130, 170))
    for words, kept in ((("--split", "3x2"), 6), (("--split", "3x2", "--compress", "none"), 0)):
        assert program("tile", "whole.tif", *words, "--resume", "--out", "s/", "--json").json["kept"] == kept
    marked = (folder / ".zembrel-sheets").read_text()
    program("tile", "whole.tif", "--split", "3x2", "--method", "cubic", "--replace", "--out", "s/")
    (folder / ".zembrel-sheets").write_text(
        json.dumps(
            json.loads(marked)
            | {
                "before": {
                    str(Path("s") / p.name): [p.stat().st_ino, p.stat().st_mtime_ns]
                    for p in folder.glob("*.tif")
                }
            }
        )
    )  # as if the run had been stopped before its first sheet, over those of another
    said = program(
        "tile", "whole.tif", *("--split", "3x2", "--compress", "none"), "--resume", "--out", "s/", "--json"
    )
    assert said.json["kept"] == 0
    os.utime(program.folder / "whole.tif")  # other inputs: no sheet is theirs
    assert (
        program("tile", "whole.tif", "--split", "3x2", "--resume", "--out", "s/", "--json").json["kept"] == 0
    )


@pytest.mark.parametrize(
    "words, what",
    [
        (("--split", "3x2", "--cells", "5"), "2 ways to cut"),
        ((), "0 ways to cut"),
        (("--split", "400x2"), "--split 400x2"),
        (("--split", "0x2"), "--split 0x2"),
        (("--cells", "ten"), "--cells ten"),
        (("--size", "2m"), "--size 2m"),
        (("--split", "2x2", "--margin", "-50m"), "--margin -50m"),
        (("--split", "2x2", "--name", "{colum}"), "names {colum}"),
        (("--split", "2x2", "--name", "{row.__class__}"), "names {row.__class__}"),
        (("--split", "2x2", "--name", "{row"), "--name"),
        (("--split", "2x2", "--name", "{row}"), "sheets 1 and 2 would both be 1.tif"),
        (("--split", "2x2", "--name", "{row:zz}"), "does not fit"),
        (("--split", "2x2", "--index", "a.txt"), "a.txt is no name"),
    ],
)
def test_what_cannot_be_cut_is_said(program: Program, words: tuple[str, ...], what: str) -> None:
    assert what in program.refuses(2, "tile", "whole.tif", *words, "--out", "sheets/")[0]
