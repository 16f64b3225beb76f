"""TIFFs from all sorts of writers, out of the source archive of the picture package (`make test` fetches it)."""

from __future__ import annotations

import sys
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image

from zembrel.errors import InputError
from zembrel.formats import open_raster

SAMPLES = Path(sys.prefix) / "samples"
BROKEN = (
    "libtiff_segfault.tif", "seek_too_large.tif", "tiff_overflow_rows_per_strip.tif",
    "oom-225817ca0f8c663be7ab4b9e717b02c661e66834.tif",
)  # fmt: skip
OLD_JPEG = ("old-style-jpeg-compression.tif", "old-style-jpeg-compression-no-samplesperpixel.tif")
SOUND = sorted(
    path.relative_to(SAMPLES)
    for path in SAMPLES.rglob("*.tif*")
    if path.name not in (*BROKEN, *OLD_JPEG, "tiff_tiled_jpeg_oob_read.tif")
)


def test_the_samples_are_here() -> None:
    if not SAMPLES.is_dir():
        pytest.skip(f"no samples in {SAMPLES}; make test fetches them from the package registry")
    assert len(SOUND) > 85 and all((SAMPLES / name).is_file() for name in (*BROKEN, *OLD_JPEG))


@pytest.mark.parametrize("name", SOUND, ids=str)
def test_it_reads_as_another_reader_has_it(name: Path) -> None:
    """Equal to what tifffile reads, or to what Pillow shows where colours or the sense of 0 differ."""
    source = open_raster(SAMPLES / name)
    mine = source.cells(source.frame.pane).cells
    stored = _stored(SAMPLES / name)
    if stored is not None and np.array_equal(mine, stored[: len(mine)].astype(mine.dtype)):
        return
    with Image.open(SAMPLES / name) as picture:
        turned = picture.getexif().get(274, 1) != 1
        raw, mode = np.asarray(picture), picture.mode
        shown = "RGBA" if len(mine) == 4 else "RGB"
        rgb = np.asarray(picture.convert(shown)).transpose(2, 0, 1) if "16" not in mode else None
    if turned and stored is not None:  # Pillow turns such a picture; cells stay where the file has them
        np.testing.assert_array_equal(mine[0], stored[0] == 0)
    elif len(mine) == 1:
        steps = 255 // int(2 ** _bits(SAMPLES / name) - 1) if mode == "L" else 1
        np.testing.assert_array_equal(mine[0] * steps, raw)
    elif mine.dtype == np.uint8:
        assert rgb is not None
        gap = np.abs(mine.astype(int) - rgb)
        assert gap.max() <= (12 if mode == "LAB" else 1) and gap.mean() < 1
    else:
        _deep_colours(SAMPLES / name, mine)


def _stored(path: Path) -> Any:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with tifffile.TiffFile(path) as file:
                cells, apart = np.asarray(file.pages[0].asarray()), file.pages[0].planarconfig == 2
        except (AttributeError, ValueError, tifffile.TiffFileError):
            return None
    return cells[None] if cells.ndim == 2 else cells if apart else cells.transpose(2, 0, 1)


def _bits(path: Path) -> int:
    with Image.open(path) as picture:
        return int(np.ravel(picture.tag_v2[258])[0])  # type: ignore[attr-defined]


def _deep_colours(path: Path, mine: Any) -> None:
    """16-bit inks and premultiplied colours, by the definition."""
    stored = _stored(path).astype(float)
    if "cmyk" in path.name:
        due = (65_535 - stored[:3]) * (65_535 - stored[3]) / 65_535
    else:
        due = np.minimum(stored[:3] * 65_535 / np.maximum(stored[3], 1), 65_535)
        np.testing.assert_array_equal(mine[3], stored[3])
        mine = np.where(stored[3] > 0, mine[:3], 0)
    assert np.abs(mine - due).max() <= 1


@pytest.mark.parametrize("name", BROKEN)
def test_broken_ones_end_in_an_error_of_ours(name: str) -> None:
    if not SAMPLES.is_dir():
        pytest.skip("no samples; make test fetches them")
    with pytest.raises(InputError, match=r"is broken|has cells of"):
        source = open_raster(SAMPLES / name)
        source.cells(source.frame.pane)


@pytest.mark.parametrize("name", OLD_JPEG)
def test_jpeg_of_before_1995_is_refused_by_its_number(name: str) -> None:
    if not SAMPLES.is_dir():
        pytest.skip("no samples; make test fetches them")
    with pytest.raises(InputError, match="scheme 6"):
        open_raster(SAMPLES / name)
