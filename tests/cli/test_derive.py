"""derive on the demo's layers: names, frames, indices, what it says and refuses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile

from program import Program
from zembrel.algebra.indices import indices


@pytest.fixture
def island(zembrel: Program, marrowick: Path) -> Program:
    zembrel("mosaic", *sorted((marrowick / "dem").glob("r*.tif")), "--cell", "20m", "--out", "relief.tif")
    (zembrel.folder / "cover.tif").symlink_to(marrowick / "landcover.tif")
    (zembrel.folder / "m1.tif").symlink_to(marrowick / "ortho" / "m1.tif")
    return zembrel


def test_layers_of_two_frames_meet_and_classes_go_by_name(island: Program) -> None:
    words = ("--let", "r=relief.tif", "--let", "c=cover.tif", "--formula", "high = where(c == 'wood', r, -r)")
    said = island("derive", *words, "--formula", "c == 'wood'", "--out", "o.tif")
    assert "derive   2 inputs (relief.tif ... cover.tif) -> o.tif" in said.err
    assert "c: method mode (classes, coarser)" in said.err
    high, wood = np.moveaxis(tifffile.imread(island.folder / "o.tif", key=0), -1, 0)
    relief = tifffile.imread(island.folder / "relief.tif", key=0)
    known = np.isfinite(high)
    assert known.any() and set(np.unique(wood[known])) == {0, 1}
    np.testing.assert_array_equal(high[known], np.where(wood == 1, relief, -relief)[known])
    bands = island("describe", "o.tif", "--json").json["layers"][0]["bands"]
    assert [(band["name"], band["unit"]) for band in bands] == [("high", "m"), ("formula_2", None)]


def test_many_inputs_have_results_of_their_own_and_an_index_names_its_bands(island: Program) -> None:
    (island.folder / "moss.toml").write_text("[moss]\nformula = '(green - red) / (green + blue)'\n")
    words = ("--index", "moss", "--index", "exg", "--indices", "moss.toml")
    said = island("derive", "m1.tif", *words, "--out", "o/")
    assert "moss of green m1.tif:green, red m1.tif:red" in said.err and "Woebbecke" in said.err
    photo = tifffile.imread(island.folder / "m1.tif", key=0).astype(float)
    red, green, blue = np.moveaxis(photo, -1, 0)
    found = tifffile.imread(island.folder / "o" / "m1.tif", key=0)
    with np.errstate(all="ignore"):
        for band, wanted in enumerate(
            ((green - red) / (green + blue), (2 * green - red - blue) / photo.sum(-1))
        ):
            known = np.isfinite(found[..., band])
            np.testing.assert_allclose(found[..., band][known], wanted[known], rtol=1e-5, atol=1e-6)


@pytest.mark.parametrize(
    "words, code, what",
    [
        (("--let", "r", "--formula", "r"), 2, "--let r"),
        (("--let", "r=relief.tif", "--let", "r=cover.tif", "--formula", "r"), 2, "given twice"),
        (("--let", "r=relief.tif:7", "--formula", "r"), 3, "there is no band '7'"),
        (("--let", "r=nothing.tif", "--formula", "r"), 3, "nothing.tif does not exist"),
        (("--let", "1r=relief.tif", "--formula", "r"), 2, "--let 1r=..."),
        (("--let", "r=relief.tif"), 2, "nothing to compute"),
        (("--formula", "1"), 2, "nothing to compute with"),
        (("--let", "r=relief.tif", "--formula", "r + q"), 2, "names 'q' at character 5"),
        (("--let", "r=relief.tif", "--formula", "x=r", "--formula", "x=r+1"), 2, "called 'x'"),
        (("--let", "r=relief.tif", "--index", "ndvi"), 3, "needs a band nir"),
        (("--let", "r=relief.tif", "--index", "ndvi", "--indices", "bad.toml"), 3, "bad.toml"),
    ],
)
def test_what_cannot_be_meant_is_refused(
    island: Program, words: tuple[str, ...], code: int, what: str
) -> None:
    (island.folder / "bad.toml").write_text("[moss]\nformular = 'red'\n")
    assert what in island.refuses(code, "derive", *words, "--out", "o.tif")[0]


def test_the_page_lists_every_index_with_its_formula_and_source() -> None:
    page = (Path(__file__).parents[2] / "docs" / "derive.md").read_text("utf-8")
    for name, index in indices().items():
        assert f"| `{name}` | {index.title}" in page and f"| `{index.formula}` | {index.source} |" in page
