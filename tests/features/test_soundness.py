"""Faulty geometries: mended to the ground they cover, left out, or named."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import shapely
from shapely import from_wkt

from program import Program
from zembrel.features.soundness import mended

# what was drawn, and the area it covers (by hand)
FAULTY = {
    "bow-tie": ("POLYGON ((0 0, 10 10, 10 0, 0 10, 0 0))", 50),
    "spike": ("POLYGON ((0 0, 10 0, 10 10, 5 10, 5 20, 5 10, 0 10, 0 0))", 100),
    "overlapping parts": (
        "MULTIPOLYGON (((0 0, 10 0, 10 10, 0 10, 0 0)), ((5 5, 15 5, 15 15, 5 15, 5 5)))", 175
    ),
    "overlapping holes": (
        "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 4 2, 4 4, 2 4, 2 2), (3 3, 5 3, 5 5, 3 5, 3 3))", 93
    ),
}  # fmt: skip
LINE = "POLYGON ((0 0, 10 0, 0 0, 0 0))"


@pytest.mark.parametrize("name", FAULTY)
def test_polygons_stay_polygons_of_the_same_ground(name: str) -> None:
    text, area = FAULTY[name]
    better = mended(from_wkt(text))
    assert better is not None and better.is_valid and better.area == pytest.approx(area)
    assert better.geom_type in ("Polygon", "MultiPolygon")
    assert mended(from_wkt(LINE)) is None


def layer(path: Path, shapes: list[str]) -> None:
    features = [
        {
            "type": "Feature",
            "properties": {"n": n},
            "geometry": json.loads(shapely.to_geojson(from_wkt(text))),
        }
        for n, text in enumerate(shapes)
    ]
    crs = {"type": "name", "properties": {"name": "EPSG:32626"}}
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": features}))


@pytest.mark.parametrize("options", [(), ("--repair",), ("--skip-invalid",), ("--repair", "--skip-invalid")])
def test_what_can_be_mended_is_and_the_rest_is_left_out(zembrel: Program, options: tuple[str, ...]) -> None:
    sound = "POLYGON ((20 20, 30 20, 30 30, 20 20))"
    layer(zembrel.folder / "p.geojson", [sound, *(text for text, _ in FAULTY.values()), LINE])
    words = ("rasterize", "p.geojson", "--cell", "1", "--value", "1", "--overlap", "sum", "--type", "uint8",
             *options, "--out", "p.tif")  # fmt: skip
    if options in ((), ("--repair",)):
        what, why, _ = zembrel.refuses(3, *words)
        assert what.startswith("5 of 6" if not options else "1 of 6") and "feature 6" in why
        return
    said = zembrel(*words).err
    if "--repair" in options:
        assert "4 faulty features mended" in said and "1 faulty feature left out" in said
    else:
        assert "5 faulty features left out" in said


def test_a_nodata_value_given_for_those_that_do_not_say_leaves_the_others_alone(zembrel: Program) -> None:
    import numpy as np

    from rasters import raster, save

    cells = np.arange(36, dtype=np.int16).reshape(6, 6) - 9  # nine cells below 0, one of them 0
    save(zembrel.folder / "says.tif", raster(cells, cells >= 0, nodata=-5))
    save(zembrel.folder / "silent.tif", raster(cells))
    said = zembrel("describe", "says.tif", "--from-nodata", "0", "--stats", "--json").json
    assert "27" in json.dumps(said) and "declares its own nodata" in json.dumps(said)
    assert (
        zembrel("convert", "says.tif", "--from-nodata", "0", "--out", "a.tif", "--json").json["results"][0][
            "valid"
        ]
        == 27
    )
    assert (
        zembrel("convert", "silent.tif", "--from-nodata", "0", "--out", "b.tif", "--json").json["results"][0][
            "valid"
        ]
        == 35
    )
