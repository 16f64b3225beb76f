"""Past the ceiling a pack is refused with a setting that fits, and with that it is made."""

from __future__ import annotations

import re

import numpy as np
import pytest

from program import Program
from rasters import frame, raster, save


@pytest.mark.parametrize(
    "words, ceiling",
    [
        (("pyramid", "photo.tif", "--zooms", "10-16", "--out", "o.zip"), "3MB"), (("chart", "photo.tif", "--out", "o.kap"), "60kB"),
        (("heightmap", "dem.tif", "--size", "65", "--overlay", "photo.tif", "--out", "o/"), "1MB"), (("hgt", "dem.tif", "--cell", "1arcsec", "--out", "o/"), "20MB"),
        (("chips", "photo.tif", "--cells", "32", "--out", "o.zarr"), "200kB"), (("film", "photo.tif", "late.tif", "--out", "o.webp"), "500kB"),
    ],
)  # fmt: skip
def test_what_passes_the_ceiling_names_a_setting_that_does_not(
    zembrel: Program, words: tuple[str, ...], ceiling: str
) -> None:
    rows, columns = np.mgrid[:250, :300]
    for name in ("photo", "late"):
        save(
            zembrel.folder / f"{name}.tif",
            raster(np.stack([rows, columns // 2, rows // 3]).astype(np.uint8), where=frame(300, 250)),
        )
    save(zembrel.folder / "dem.tif", raster((rows + columns).astype(np.float32), where=frame(300, 250)))
    remedy = zembrel.refuses(4, "deliver", *words, "--ceiling", ceiling)[2]
    found = re.match(r"add (--[a-z-]+) ([\w-]+), or", remedy)
    assert found is not None, remedy
    option, value = found.groups()
    given = [word for n, word in enumerate(words) if option not in (word, *words[max(0, n - 1) : n])]
    zembrel("deliver", *given, option, value, "--ceiling", ceiling)
