"""Texts of values in values that lie too deep in each other are refused in a sentence."""

from __future__ import annotations

import pytest

from program import Program
from rasters import frame, random_cells, raster, save

N = 20_000
TEXTS = {
    "f.frame.toml": "a = " + "[" * N + "]" * N,
    "k.frame.toml": "[" + ".".join("a" * N) + "]\nb = 1",
    "q.quilt.toml": "sheets = " + "[" * N + "]" * N,
    "l.legend.toml": "a = " + "{a = " * N + "1" + "}" * N,
    "p.geojson": '{"type": "Feature", "geometry": null, "properties": {"a": ' + "[" * N + "]" * N + "}}",
    "s.geojsonl": '{"type": "Feature", "geometry": null, "properties": {"a": ' + "[" * N + "]" * N + "}}",
    "c.prj": "PROJCS[" * N + "]" * N,
    "j.prj": '{"a": ' * N + "1" + "}" * N,
    "g.kml": "<kml><GroundOverlay>" + "<a>" * N + "</a>" * N + "</GroundOverlay></kml>",
    "zembrel.toml": "compress = " + "[" * N + "]" * N,
}
USES = {
    "f.frame.toml": ("resample", "a.tif", "--onto"), "k.frame.toml": ("resample", "a.tif", "--onto"),
    "l.legend.toml": ("paint", "a.tif", "--legend"), "c.prj": ("reproject", "a.tif", "--crs"),
    "j.prj": ("reproject", "a.tif", "--crs"),
}  # fmt: skip


@pytest.mark.parametrize("name", TEXTS)
def test_values_too_deep_in_each_other_are_refused(zembrel: Program, name: str) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(1, 20, 20), where=frame(20, 20)))
    (zembrel.folder / name).write_text(TEXTS[name] + "\n")
    words = (*USES[name], name) if name in USES else ("convert", "a.tif" if name == "zembrel.toml" else name)
    said = zembrel(*words, "--out", "o.tif" if words[1] == "a.tif" else "o.csv", code=3).err
    assert said.startswith("error:") and len(said) < 2000


@pytest.mark.parametrize("condition", ["(" * N + "value" + ")" * N + " > 1", "not " * N + "value > 1"])
def test_conditions_too_deep_in_each_other_are_refused(zembrel: Program, condition: str) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(1, 20, 20), where=frame(20, 20)))
    assert (
        "cannot be read at character"
        in zembrel("mask", "a.tif", "--where", condition, "--out", "o.tif", code=2).err
    )
