"""Pictures of features: classes by their definition, colours where they belong, legends over rasters."""

from __future__ import annotations

from itertools import combinations, pairwise

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from program import Program
from rasters import frame, raster, save
from zembrel.draw.classes import breaks, classes_of
from zembrel.features.files import write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code


@given(st.lists(st.integers(0, 30), min_size=4, max_size=12), st.integers(2, 4))
def test_natural_breaks_differ_least_within(values: list[int], count: int) -> None:
    numbers = np.array(sorted(values), float)
    kinds = np.unique(numbers)
    if kinds.size < count:
        return

    def spread(edges: np.ndarray) -> float:
        place = np.clip(np.searchsorted(edges, numbers, side="left") - 1, 0, len(edges) - 2)
        return sum(
            ((part - part.mean()) ** 2).sum()
            for n in range(len(edges) - 1)
            if (part := numbers[place == n]).size
        )

    best = min(spread(np.array([kinds[0], *cuts, kinds[-1]])) for cuts in combinations(kinds[:-1], count - 1))
    assert spread(breaks(numbers, "natural", count)) == pytest.approx(best, abs=1e-9)


def test_classes_of_equal_widths_and_counts_and_words() -> None:
    values = np.array([0.0, 1, 2, 3, 4, 5, 6, 100, np.nan])
    assert classes_of(values, "equal", 4).numbers.tolist() == [0] * 7 + [3, -1]
    assert np.bincount(classes_of(values, "quantile", 4).numbers[:-1]).tolist() == [2, 2, 2, 2]
    words = np.array(["path", "road", "path", None], object)
    found = classes_of(words, "quantile", 5)
    assert found.names == ("path", "road") and found.numbers.tolist() == [0, 1, 0, -1]


def colours(path: object) -> set[tuple[int, ...]]:
    return {colour for _, colour in Image.open(path).convert("RGB").getcolors(1 << 24)}  # type: ignore[arg-type]


def test_features_alone_and_over_a_raster(zembrel: Program) -> None:
    boxes = [shapely.box(730_000 + 100 * n, 5_099_900, 730_100 + 100 * n, 5_100_000) for n in range(4)]
    rows = [{"kind": kind, "depth": n} for n, kind in enumerate(("wood", "heath", "wood", "sand"))]
    write_features(zembrel.folder / "p.gpkg", FeatureTable.of(boxes, rows, by_code(32626)), "p")
    (zembrel.folder / "k.csv").write_text(
        "code,colour,name\n1,#ff0000,wood\n2,#00ff00,heath\n3,#0000ff,sand\n"
    )
    said = zembrel("draw", "p.gpkg", "--field", "kind", "--legend", "k.csv", "--out", "p.png")
    assert {(255, 0, 0), (0, 255, 0), (0, 0, 255)} <= colours(zembrel.folder / "p.png")
    assert "legend colours" in said.err
    picture = np.array(Image.open(zembrel.folder / "p.png").convert("RGB"))
    reds, greens = ((picture == colour).all(axis=2).sum() for colour in ((255, 0, 0), (0, 255, 0)))
    assert reds == pytest.approx(2 * greens, rel=0.05)  # two boxes and one, and their legend
    save(zembrel.folder / "r.tif", raster(np.full((40, 60), 9, np.int16), where=frame(60, 40)))
    zembrel("draw", "r.tif", "--out", "bare.png")
    for words in ([], ["--field", "depth", "--classes", "natural:3"]):
        zembrel("draw", "r.tif", "p.gpkg", *words, "--out", "over.png", "--replace")
        bare, over = (
            np.array(Image.open(zembrel.folder / f"{name}.png").convert("RGB")) for name in ("bare", "over")
        )
        assert bare.shape == over.shape == (800, 1280, 3) and (bare != over).any(axis=2).sum() > 300
    assert (
        zembrel.refuses(2, "draw", "r.tif", "--crs", "EPSG:3857", "--out", "x.png")[2] == "reproject it first"
    )
    assert "depth" in zembrel.refuses(3, "draw", "p.gpkg", "--field", "dept", "--out", "x.png")[2]
    assert zembrel.refuses(2, "draw", "p.gpkg", "--field", "depth", "--classes", "best", "--out", "x.png")
    assert zembrel.refuses(2, "draw", "p.gpkg", "--field", "depth", "--classes", "equal:99", "--out", "x.png")


def test_classes_are_called_by_what_is_in_them_and_share_no_end() -> None:
    values = np.array([1.0, 2.4, 13.3, 13.30001, 19.25, 30.0])
    for way in ("equal", "quantile", "natural"):
        names = classes_of(values, way, 3).names
        ends = [[float(end.replace(",", "")) for end in name.split(" to ")] for name in names]
        assert all(one[-1] < other[0] for one, other in pairwise(ends))
        assert {end for pair in ends for end in pair} <= set(values.tolist())
