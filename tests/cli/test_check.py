"""check: what we write obeys every rule; what breaks a rule is told by its name."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

from program import Program
from rasters import random_cells, raster, save

GEO = [
    (34735, "H", 16, (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32626), True),
    (33550, "d", 3, (2.0, 3.0, 0.0), True),
    (33922, "d", 6, (0.0, 0.0, 0, 500.0, 900.0, 0), True),
]


@pytest.fixture
def program(tmp_path: Path) -> Program:
    return Program(tmp_path)


def faults(program: Program, name: str, *words: str) -> set[str]:
    """The rules that the file does not obey."""
    said = program("check", name, *words, "--json", code=None)
    found = {
        f"{item['standard']}: {item['rule']}"
        for file in said.json["files"]
        for item in file["items"]
        if item["verdict"] == "fault"
    }
    assert said.code == (1 if found else 0)
    return found


@pytest.mark.parametrize("bands, masked", [(1, False), (3, True), (6, True)])
def test_what_we_write_obeys_all(program: Program, bands: int, masked: bool) -> None:
    valid = random_cells(300, 1100) > 9 if masked else None
    save(program.folder / "own.tif", raster(random_cells(bands, 300, 1100), valid), tile="128")
    assert faults(program, "own.tif") == set()
    text = program("check", "own.tif").out
    assert "rules obeyed" in text and "COG" in text and "GeoTIFF" in text


def test_strips_obey_tiff_but_not_the_cloud_layout(program: Program) -> None:
    tifffile.imwrite(program.folder / "s.tif", random_cells(1200, 1100), rowsperstrip=64, extratags=GEO)
    assert faults(program, "s.tif") >= {"COG: the image is tiled", "COG: there are overviews"}
    assert faults(program, "s.tif", "--rules", "tiff,geotiff") == set()


def test_overviews_of_odd_sizes_and_in_the_wrong_order(program: Program) -> None:
    with tifffile.TiffWriter(program.folder / "o.tif") as file:
        file.write(random_cells(1200, 1100), tile=(64, 64), extratags=GEO)
        file.write(random_cells(400, 367), tile=(64, 64), subfiletype=1)
    assert faults(program, "o.tif") == {
        "COG: each overview has half the size of the one before",
        "COG: all directories stand before all cells",
        "COG: cells of small overviews stand before larger ones",
    }


@pytest.mark.parametrize(
    "tags, rule",
    [
        ([(34735, "H", 8, (1, 1, 0, 9, 1024, 0, 1, 1), True)], "the key directory is whole"),
        (
            [(34735, "H", 12, (1, 1, 0, 2, 1025, 0, 1, 1, 1024, 0, 1, 1), True)],
            "keys are sorted and point at their values",
        ),
        (
            [(34735, "H", 8, (1, 1, 0, 1, 1026, 34737, 40, 0), True)],
            "keys are sorted and point at their values",
        ),
        ([GEO[0], GEO[1]], "one way to place the cells"),
        ([(34735, "H", 8, (1, 1, 0, 1, 3072, 0, 1, 9), True), *GEO[1:]], "the CRS can be made out"),
    ],
)
def test_georeferencing_that_breaks_a_rule(program: Program, tags: list[Any], rule: str) -> None:
    tifffile.imwrite(program.folder / "g.tif", random_cells(40, 40), extratags=tags)
    assert f"GeoTIFF: {rule}" in faults(program, "g.tif")


def test_damage_is_told(program: Program) -> None:
    save(program.folder / "d.tif", raster(random_cells(300, 300)), tile="64", overviews="no")
    content = (program.folder / "d.tif").read_bytes()
    (program.folder / "cut.tif").write_bytes(content[:-500])
    apart = {"TIFF: every segment lies apart and decodes"}
    assert faults(program, "cut.tif") == apart
    with tifffile.TiffFile(program.folder / "d.tif") as file:
        offsets = file.pages[0].tags[324]
        second, first = offsets.value[1], offsets.value[0]
        at = offsets.valueoffset
    moved = content[: at + 4] + struct.pack("<I", first + 3) + content[at + 8 :]
    assert content[at + 4 : at + 8] == struct.pack("<I", second)
    (program.folder / "over.tif").write_bytes(moved)
    assert faults(program, "over.tif") == apart
    (program.folder / "head.tif").write_bytes(content[:60])
    assert faults(program, "head.tif") == {"TIFF: the container can be read"}


def test_palettes_and_samples_that_do_not_fit(program: Program) -> None:
    tifffile.imwrite(
        program.folder / "p.tif",
        random_cells(30, 30),
        photometric="palette",
        colormap=np.zeros((3, 256), "u2"),
    )
    assert "TIFF: image 1 is described soundly" not in faults(program, "p.tif")
    with tifffile.TiffFile(program.folder / "p.tif", mode="r+b") as file:
        file.pages[0].tags[262].overwrite(2)
    assert "TIFF: image 1 is described soundly" in faults(program, "p.tif")


def test_other_formats_and_rules_are_refused(program: Program) -> None:
    save(program.folder / "a.npy", raster(random_cells(5, 5)))
    assert "not checked here" in program.refuses(3, "check", "a.npy", "--rules", "cog")[0]
    save(program.folder / "a.tif", raster(random_cells(5, 5)))
    assert program.refuses(2, "check", "a.tif", "--rules", "tif")[2].startswith("did you mean tiff")
