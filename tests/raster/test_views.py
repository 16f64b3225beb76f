"""Each view obeys the laws, and says what it is meant to say."""

from __future__ import annotations

import io
import warnings
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
import shapely
from laws import RasterLaws
from PIL import Image
from scipy import ndimage

from rasters import HOME, ArrayRaster, frame, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.features.cover import PolygonCover
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import SelectBands, select_bands, stack
from zembrel.raster.views.cast import cast
from zembrel.raster.views.collar import Shade, Trimmed, find_collar, shade_of
from zembrel.raster.views.mosaic import FEATHER
from zembrel.raster.views.mosaic import mosaic as mosaic_view
from zembrel.raster.views.nodata import WithNodata
from zembrel.raster.views.outline import Blanked
from zembrel.raster.views.overlap import RULES, RasterPiece
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.place import Positioned, crop, place
from zembrel.raster.views.quantized import DITHERS, Quantized
from zembrel.raster.views.reproject import on_frame
from zembrel.raster.views.unscaled import unscaled

ROWS, COLUMNS = 83, 71
VALID = random_cells(ROWS, COLUMNS, seed=5) > 30


PALETTE = Legend.of(LegendEntry(n, "", (n * 51, 255 - n * 40, (n * 97) % 256)) for n in range(6))


def photo(masked: bool = True) -> ArrayRaster:
    return raster(random_cells(3, ROWS, COLUMNS), VALID if masked else None)


def other_frame(code: int = 32627, cell: float = 13.0) -> Frame:
    crs = by_code(code)
    return snapped(crs, carried_bounds(frame(COLUMNS, ROWS), crs), (cell, cell))


TRIANGLE = shapely.Polygon([(730_013, 5_099_310), (730_610, 5_099_820), (730_120, 5_099_905)])
VIEWS = {
    "crop": lambda: crop(photo(), Pane(-3, 5, 60, 90)),
    "select": lambda: select_bands(photo(), (2, 0)),
    "stack": lambda: stack((photo(), raster(random_cells(ROWS, COLUMNS), VALID[::-1]))),
    "cast": lambda: cast(photo(), "int16", 3.0, -20.0),
    "nodata": lambda: WithNodata(photo(), 7),
    "outline": lambda: Blanked(photo(), PolygonCover(frame(COLUMNS, ROWS), TRIANGLE, touching=True)),
    "palette": lambda: expand_palette(
        raster(random_cells(ROWS, COLUMNS) % 3, VALID, legend=Legend.of([LegendEntry(1, "a", (9, 8, 7))]))
    ),
    "trimmed": lambda: Trimmed(photo(), find_collar(photo(), BLACK)),
    **{f"mosaic {rule}": lambda rule=rule: mosaic(rule) for rule in RULES},
    **{
        f"reproject {method}": lambda method=method: on_frame(photo(), other_frame(), method)
        for method in ("nearest", "bilinear", "cubic", "lanczos", "mean", "mode", "median", "sum")
    },
    **{
        f"resample {method}": lambda method=method: on_frame(photo(), frame(30, 33, cell=24.0), method)
        for method in ("nearest", "bilinear", "cubic", "lanczos", "mean", "mode", "median", "sum")
    },
    "reproject shrinking": lambda: on_frame(photo(), other_frame(cell=41.0), "cubic"),
    **{f"palette {dither}": lambda dither=dither: Quantized(photo(), PALETTE, dither) for dither in DITHERS},
    "reproject floats": lambda: on_frame(raster(random_cells(ROWS, COLUMNS, kind="float32")), other_frame(), "bilinear"),
    "reproject to degrees": lambda: on_frame(photo(masked=False), other_frame(4326, 1e-4), "bilinear"),
}  # fmt: skip


def mosaic(rule: str) -> Raster:
    whole = frame(110, 120)
    one, other = photo(), raster(random_cells(3, 60, 60, seed=8))
    places = (place(one, whole, -10, -20), place(other, whole, -50, -40))
    pieces = tuple(RasterPiece(p, p.footprint) for p in places if isinstance(p, Positioned) and p.footprint)
    return mosaic_view(pieces, whole, one.bands, rule, FEATHER)


@pytest.mark.parametrize("name", VIEWS)
class TestViews(RasterLaws):
    @pytest.fixture(autouse=True)
    def _named(self, name: str) -> None:
        self.name = name

    def make(self) -> Raster:
        return VIEWS[self.name]()


@pytest.mark.parametrize("settings", [{}, {"compress": "lzw"}, {"overviews": "no", "tile": "16"}])
class TestTiff(RasterLaws):
    @pytest.fixture(autouse=True)
    def _file(self, tmp_path: Path, settings: dict[str, str]) -> None:
        self.path = save(tmp_path / "t.tif", photo(), **{"tile": "32", **settings})

    def make(self) -> Raster:
        return open_raster(self.path)


def cells(view: Raster) -> np.ndarray:
    return view.cells(view.frame.pane).cells


def test_a_clip_of_a_clip_is_one_view_and_a_clip_of_everything_none() -> None:
    source = photo()
    twice = crop(crop(source, Pane(5, 5, 60, 60)), Pane(2, 3, 20, 20))
    assert isinstance(twice, Positioned) and twice.source is source
    np.testing.assert_array_equal(cells(twice), source.values[:, 7:25, 8:25])
    assert crop(source, source.frame.pane) is source


def test_choices_of_bands_collapse() -> None:
    source = photo()
    chosen = select_bands(select_bands(source, (2, 1)), (1,))
    assert isinstance(chosen, SelectBands) and chosen.source is source and chosen.picked == (1,)
    assert select_bands(source, (0, 1, 2)) is source


def test_bands_of_unlike_frames_are_not_stacked() -> None:
    with pytest.raises(InputError, match="71 x 83"):
        stack((photo(), raster(random_cells(5, 5))))


def depth_of(known: np.ndarray) -> np.ndarray:
    """Distance of each cell from the nearest unknown one, beyond the edge nothing being known."""
    return ndimage.distance_transform_edt(np.pad(known, 1))[1:-1, 1:-1]


@pytest.mark.parametrize("rule", RULES)
def test_overlap_rules_against_plain_arrays(rule: str) -> None:
    layers = np.stack([np.full((3, 120, 110), np.nan)] * 2)
    layers[0, :, 10:93, 20:91] = np.where(VALID, random_cells(3, ROWS, COLUMNS), np.nan)
    layers[1, :, 50:110, 40:100] = random_cells(3, 60, 60, seed=8)
    known = ~np.isnan(layers[:, 0])
    rows, cols = np.mgrid[:120, :110] + 0.5
    away = [(rows - r) ** 2 + (cols - c) ** 2 for r, c in ((51.5, 55.5), (80, 70))]
    nearer = np.where(known[0] & (~known[1] | (away[0] <= away[1])), layers[0], layers[1])
    share = np.stack([np.minimum(depth_of(one), FEATHER) for one in known])[:, None] * known[:, None]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # where both are void
        expected = {
            "first": np.where(np.isnan(layers[0]), layers[1], layers[0]),
            "last": np.where(np.isnan(layers[1]), layers[0], layers[1]),
            "min": np.nanmin(layers, axis=0),
            "max": np.nanmax(layers, axis=0),
            "mean": np.floor(np.nanmean(layers, axis=0) + 0.5),
            "median": np.floor(np.nanmedian(layers, axis=0) + 0.5),
            "sum": np.where(known.any(axis=0), np.nansum(layers, axis=0), np.nan),
            "count": known.sum(axis=0)[None].astype(float),
            "divide": nearer,
            "feather": np.nansum(layers * share, axis=0) / share.sum(axis=0),
        }[rule]
    block = mosaic(rule).cells(Pane(0, 0, 120, 110))
    valid = block.anywhere
    np.testing.assert_array_equal(valid, ~np.isnan(expected[0]))
    gap = np.abs(block.cells[:, valid] - expected[:, valid])
    assert gap.max() <= (0.51 if rule == "feather" else 0)


@pytest.mark.parametrize("wanted", ["uint8", "int16", "uint32", "float32"])
def test_a_cast_rounds_half_up_and_holds_values_at_the_ends(wanted: str) -> None:
    values = np.array([[-3.5, -0.5, 0.4, 0.5, 254.5, 300.0, 70_000.0, 5e9]])
    result = cells(cast(raster(values), wanted))[0, 0].astype(float)
    if wanted == "float32":
        np.testing.assert_allclose(result, values[0], rtol=1e-7)
    else:
        limits = np.iinfo(wanted)
        np.testing.assert_array_equal(result, np.clip(np.floor(values[0] + 0.5), limits.min, limits.max))


BLACK = Shade(np.zeros((1, 3), np.uint8), 4)


def test_a_collar_is_found_where_the_dark_runs_end() -> None:
    """A turned photo on black: what is kept lies inside it, and nearly all of it is kept."""
    size = 300
    rows, cols = np.mgrid[:size, :size] - size / 2
    inside = (np.abs(cols * 0.98 + rows * 0.2) < 110) & (np.abs(rows * 0.98 - cols * 0.2) < 110)
    values = np.where(inside, 60 + random_cells(3, size, size) // 2, 1).astype(np.uint8)
    values[:, 140:160, 140:160] = 0  # a dark lake in the middle stays
    shade = shade_of(raster(values))
    assert shade is not None and shade.colours.tolist() == [[1, 1, 1]]
    kept = find_collar(raster(values), shade).kept(Pane(0, 0, size, size))
    assert not (kept & ~inside).any()
    assert kept.sum() > 0.95 * inside.sum() and kept[150, 150]


@pytest.mark.parametrize("colour", [(0, 0, 0), (255, 255, 255), (12, 60, 3)])
@pytest.mark.parametrize("quality", [40, 75, 95])
def test_a_collar_that_a_picture_coder_frayed_goes_with_its_fringe(
    colour: tuple[int, int, int], quality: int
) -> None:
    """Pillow codes and decodes a turned photo of fields; what is collar, and what photo, is known before."""
    size = 400
    rows, cols = np.mgrid[:size, :size] - size / 2
    inside = (np.abs(cols * 0.98 + rows * 0.2) < 150) & (np.abs(rows * 0.98 - cols * 0.2) < 150)
    fields = (
        np.kron(random_cells(3, 20, 20) // 2 + 60, np.ones((20, 20), np.uint8))
        + random_cells(3, 400, 400) % 9
    )
    values = np.where(inside, fields, np.reshape(colour, (3, 1, 1))).astype(np.uint8)
    coded = io.BytesIO()
    Image.fromarray(values.transpose(1, 2, 0)).save(coded, "JPEG", quality=quality, subsampling=0)
    cells = np.asarray(Image.open(coded)).transpose(2, 0, 1)
    shade = shade_of(raster(cells))
    assert shade is not None and np.abs(shade.colours[0].astype(int) - colour).max() <= 2
    collar = find_collar(raster(cells), shade)
    kept = collar.kept(Pane(0, 0, size, size))
    alike = np.abs(cells.astype(int) - np.reshape(colour, (3, 1, 1))).max(axis=0) <= 40
    assert (kept & ~inside & alike).sum() < 0.001 * (~inside).sum()
    assert kept.sum() > 0.9 * inside.sum() and collar.removed == size * size - kept.sum()


@pytest.mark.parametrize(("noise", "colour", "tolerance"), [
    (4, 0, 20), (9, 0, None), (9, 247, None), (4, 40, 8), (21, 0, 20),
])  # fmt: skip
def test_a_noisy_collar_goes_by_itself_or_by_the_tolerance_that_is_given(
    noise: int, colour: int, tolerance: int | None
) -> None:
    """Noise of up to 8 in black or white by itself, any by --collar-tolerance; dark ground inside stays."""
    size = 240
    rows, cols = np.mgrid[:size, :size] - size / 2
    inside = (np.abs(cols) < 90) & (np.abs(rows) < 85)
    values = np.where(
        inside, 90 + random_cells(3, size, size) // 3, colour + random_cells(3, size, size, seed=5) % noise
    )
    values[:, 100:120, 100:120] = colour
    shade = shade_of(raster(values.astype(np.uint8)), tolerance)
    assert shade is not None
    kept = find_collar(raster(values.astype(np.uint8)), shade).kept(Pane(0, 0, size, size))
    assert not (kept & ~inside).any() and kept.sum() > 0.9 * inside.sum() and kept[110, 110]


def test_dark_water_along_a_border_is_no_collar() -> None:
    water = 34 + np.clip(np.random.default_rng(3).normal(0, 5, (200, 200)), -20, 20)
    assert shade_of(raster(np.stack([water, water + 4, water + 9]).astype(np.uint8))) is None


def test_a_photo_without_a_collar_keeps_every_cell() -> None:
    assert shade_of(raster(random_cells(3, 200, 200))) is None


def test_a_checkerboard_of_single_cells_is_not_shifted() -> None:
    """Halved cells of a checkerboard of 2 x 2 are the checkerboard of single cells, whatever the kernel."""
    rows, cols = np.mgrid[:40, :40]
    board = ((rows + cols) % 2 * 200).astype(np.uint8)
    double = np.kron(board, np.ones((2, 2), np.uint8))
    fine = raster(double, where=Frame(HOME, Affine(730_000, 5_100_000, 5, -5), 80, 80))
    for method in ("nearest", "mean", "mode"):
        np.testing.assert_array_equal(cells(on_frame(fine, frame(40, 40), method))[0], board)
    for code in (4326, 32627):  # there and back by nearest neighbours at a third of the cell size
        crs = by_code(code)
        there = snapped(crs, carried_bounds(frame(40, 40), crs), (3.0, 3.0) if code != 4326 else (3e-5, 3e-5))
        away = on_frame(raster(board), there, "nearest")
        back = on_frame(away, frame(40, 40), "nearest")
        np.testing.assert_array_equal(cells(back)[0], board)


def test_there_and_back_returns_to_the_source_within_the_kernels_error() -> None:
    rows, cols = np.mgrid[:200, :200]
    smooth = raster(100 + 80 * np.sin(rows / 9.0) * np.cos(cols / 11.0), where=frame(200, 200))
    there = snapped(by_code(32627), carried_bounds(smooth.frame, by_code(32627)), (10.0, 10.0))
    for method, most in (("cubic", 0.15), ("lanczos", 0.1), ("bilinear", 0.9)):
        back = on_frame(on_frame(smooth, there, method), smooth.frame, method)
        gap = np.abs(cells(back)[0] - smooth.values[0])[8:-8, 8:-8]
        assert gap.max() < most, (method, gap.max())


def test_node_and_cell_registration_meet_exactly() -> None:
    """Values on nodes seen as cells around the same places: no half-cell shift, no interpolation."""
    values = random_cells(20, 20, kind="float32")
    cell_frame = frame(20, 20)
    node_frame = Frame(HOME, cell_frame.affine.shifted(Fraction(1, 2), Fraction(1, 2)), 20, 20, "node")
    seen = on_frame(raster(values, where=node_frame), cell_frame, "bilinear")
    np.testing.assert_array_equal(cells(seen)[0], values)
    as_is = Frame(HOME, cell_frame.affine, 20, 20, "node")
    shifted = on_frame(raster(values.astype(np.float64), where=as_is), crop_frame(cell_frame), "bilinear")
    quads = values.astype(np.float64)
    expected = (quads[:-1, :-1] + quads[1:, :-1] + quads[:-1, 1:] + quads[1:, 1:]) / 4
    np.testing.assert_allclose(cells(shifted)[0], expected, rtol=1e-12)


def crop_frame(cell_frame: Frame) -> Frame:
    return cell_frame.crop(Pane(0, 0, 19, 19))


def test_a_turned_raster_lands_on_a_north_up_frame() -> None:
    """A plane in x and y, stored turned by 30 degrees, is the same plane afterwards."""
    turn = np.radians(30)
    affine = Affine(
        730_000, 5_100_000, 10 * np.cos(turn), -10 * np.cos(turn), 10 * np.sin(turn), 10 * np.sin(turn)
    )
    turned = Frame(HOME, affine, 100, 100)
    cols, rows = np.meshgrid(np.arange(100.0), np.arange(100.0))
    x, y = turned.centres(cols, rows)
    source = raster((x - 730_000) * 0.5 + (y - 5_100_000) * 0.25, where=turned)
    target = snapped(HOME, turned.bounds, (7.0, 7.0))
    block = on_frame(source, target, "bilinear").cells(target.pane)
    cols, rows = np.meshgrid(np.arange(float(target.columns)), np.arange(float(target.rows)))
    x, y = target.centres(cols, rows)
    inside = on_frame(raster(np.ones((100, 100)), where=turned), target, "mean").cells(target.pane)
    sure = block.valid_of(0) & inside.valid_of(0)
    sure &= ~_near_edge(sure)
    np.testing.assert_allclose(
        block.cells[0][sure], ((x - 730_000) * 0.5 + (y - 5_100_000) * 0.25)[sure], atol=1e-6
    )
    assert sure.sum() > 0.9 * 100 * 100 * (10 / 7) ** 2


def _near_edge(valid: np.ndarray) -> np.ndarray:
    from scipy.ndimage import binary_erosion

    return ~binary_erosion(valid, iterations=2)


def test_bands_of_unlike_scales_become_the_values_they_stand_for() -> None:
    codes = np.arange(24, dtype=np.int16).reshape(2, 3, 4)
    scaled = raster(codes)
    bands = tuple(
        replace(b, scale=s, offset=o) for b, s, o in zip(scaled.bands, (0.5, 2.0), (10.0, 0.0), strict=True)
    )
    found = unscaled(replace(scaled, bands=bands))
    np.testing.assert_array_equal(
        found.cells(found.frame.pane).cells, np.stack([codes[0] / 2 + 10, codes[1] * 2.0])
    )
    assert {(b.type, b.scale, b.offset) for b in found.bands} == {("float32", 1.0, 0.0)}
    assert unscaled(scaled) is scaled
