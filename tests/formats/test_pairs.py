"""From every format that can hold a layer to every other and back: nothing changes, or the loss is told."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import depth
from rasters import raster, save
from zembrel.cli.saying import say
from zembrel.demo.data import photos, reliefs
from zembrel.demo.scenes import HOME, LandCover
from zembrel.formats import open_raster
from zembrel.formats.catalogue import FORMATS
from zembrel.geodesy.crs import same
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.pane import Pane
from zembrel.inputs.options import Inputs, Output
from zembrel.raster.model import Raster
from zembrel.raster.views.place import place
from zembrel.results.receipt import Receipt
from zembrel.verbs.convert import Values, convert

HEIGHTS = (
    "h.tif", "h-npy.npy", "h-npz.npz", "h.asc", "h.xyz", "h.csv", "h.matrix.csv", "h.parquet", "h-bil.bil", "h-bip.bip", "h-bsq.bsq",
    "h-flt.flt", "h-r16.r16", "h.jp2", "h.nc", "h.zarr", "h.zarr.zip",
)  # fmt: skip
PHOTOS = (
    "p.tif", "p-png.png", "p-webp.webp", "p-bmp.bmp", "p.jp2", "p-npy.npy", "p-npz.npz", "p.xyz", "p.csv", "p.parquet", "p-bil.bil", "p-bip.bip",
    "p-bsq.bsq", "p-raw.raw", "p.nc", "p.h5", "p.zarr",
)  # fmt: skip
CODES = ("c.tif", "c-png.png", "c-gif.gif", "c.nc", "c.zarr")
CELLS = ("N46W024.tif", "N46W024.hgt", "N46W024.dt1", "N46W024.nc", "N46W024.asc", "N46W024.parquet")
SILENT = (".npy", ".npz", ".r16", ".raw")  # of nodata
VOID = -32768


def part(source: Raster, pane: Pane) -> Raster:
    return place(source, source.frame.crop(pane), pane.top, pane.left)


def moved(source: Path, out: Path, kind: str, shape: tuple[int, int, int]) -> Receipt:
    """`source` converted to `out`, told what its format does not say."""
    silent = source.suffix in SILENT
    layout = f"columns={shape[2]},rows={shape[1]},bands={shape[0]},type={kind}"
    inputs = Inputs(
        (str(source),),
        from_nodata=VOID if silent and kind == "int16" else None,
        from_layout=layout if source.suffix in (".r16", ".raw") else None,
    )
    nodata = str(VOID) if kind == "int16" and out.suffix not in (".dt1",) else None
    output = Output(str(out), type=kind if out.suffix != ".flt" else "float32", nodata=nodata)
    return convert(inputs, output, Values())


def alike(one: Raster, other: Raster) -> None:
    """Place, values and validity of both are the same."""
    assert one.frame.affine == other.frame.affine
    assert (one.frame.columns, one.frame.rows) == (other.frame.columns, other.frame.rows)
    assert same(one.frame.crs, other.frame.crs)
    a, b = one.cells(one.frame.pane), other.cells(other.frame.pane)
    for band in range(len(a.cells)):
        known = a.valid_of(band)
        np.testing.assert_array_equal(known, b.valid_of(band))
        np.testing.assert_array_equal(a.cells[band][known], b.cells[band][known])


@pytest.fixture(scope="module")
def layers(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A part of a demo sheet of each kind, in every format that holds it."""
    folder = tmp_path_factory.mktemp("pairs")
    relief = next(relief for name, relief in reliefs() if name == "r1")
    save(folder / "h.tif", part(relief, Pane(300, 780, 352, 848)))
    photo = next(photo for name, photo in photos() if name == "m1")
    save(folder / "p.tif", part(photo, Pane(500, 500, 547, 563)))
    cover = LandCover(snapped(by_code(HOME), (731_000, 5_098_000, 731_600, 5_098_500), (10.0, 10.0)))
    save(folder / "c.tif", cover)
    for names in (HEIGHTS, PHOTOS, CODES):
        source = open_raster(folder / names[0])
        shape = len(source.bands), source.frame.rows, source.frame.columns
        for name in names[1:]:
            moved(folder / names[0], folder / name, source.bands[0].type, shape)
    return folder


FORMS = [name for names in (HEIGHTS, PHOTOS, CODES) for name in names[1:]]


@pytest.mark.parametrize("most", depth.some([2, 100], [2]))
@pytest.mark.parametrize("one", depth.some(FORMS, FORMS[::2]))
def test_a_layer_comes_back_from_every_pair_as_it_was(
    layers: Path, tmp_path: Path, one: str, most: int
) -> None:
    """By way of the next formats in turn, and in make deep of all of them."""
    names = next(names for names in (HEIGHTS, PHOTOS, CODES) if one in names)
    origin = open_raster(layers / names[0])
    shape, kind = (len(origin.bands), origin.frame.rows, origin.frame.columns), origin.bands[0].type
    at = names.index(one)
    for other in [*names[at + 1 :], *names[1:at]][:most]:
        between, back = tmp_path / other, tmp_path / f"{other}.tif"
        moved(layers / one, between, kind, shape)
        moved(between, back, kind, shape)
        found = open_raster(back)
        alike(origin, found)
        if kind == "int16":
            assert found.bands[0].nodata == VOID
        legend = origin.bands[0].legend
        if legend is not None:
            assert found.bands[0].legend is not None
            held = {e.code: (e.name, e.colour) for e in found.bands[0].legend.entries}
            assert all(held[e.code] == (e.name, e.colour) for e in legend.entries)


def test_what_a_format_cannot_hold_is_told(layers: Path, tmp_path: Path) -> None:
    def chosen(source: str, out: str) -> str:
        receipt = convert(Inputs((str(layers / source),)), Output(str(tmp_path / out)), Values())
        return " / ".join(map(say, receipt.chose))

    assert "read it with --from-nodata -32768" in chosen("h.tif", "h-npy.npy")
    assert "type int16 to float32" in chosen("h.tif", "h-flt.flt")
    assert "classes lose their names" in chosen("c.tif", "c-bmp.bmp")
    assert "palette to colour bands (WebP picture holds no palette)" in chosen("c.tif", "c-webp.webp")
    assert "codes without their legend" in chosen("c.tif", "c.asc")
    assert "invalid cells white" in chosen("p.tif", "p.jpg")


@pytest.mark.parametrize("name", CELLS[1:])
def test_one_degree_cells_keep_their_nodes(tmp_path: Path, name: str) -> None:
    side = 1201
    frame = Frame(by_code(4326), Affine(-24.0, 47.0, 1 / 1200, -1 / 1200), side, side, "node")
    rows, cols = np.mgrid[:side, :side]
    heights = (500 + 400 * np.sin(cols / 90) * np.cos(rows / 70) - 60 * np.sin(cols / 7)).astype(np.int16)

    known = np.ones(heights.shape, bool)
    known[:40, :30] = False
    source = save(tmp_path / "s.tif", raster(heights, known, frame))
    between, back = tmp_path / name, tmp_path / "back.tif"
    fixed = between.suffix in (".hgt", ".dt1")
    convert(Inputs((str(source),)), Output(str(between), nodata=None if fixed else str(VOID)), Values())
    convert(Inputs((str(between),)), Output(str(back), type="int16"), Values())
    found = open_raster(back)
    alike(open_raster(source), found)
    assert found.frame.registration == "node"


def test_the_matrix_leaves_no_format_out() -> None:
    names = [*HEIGHTS, *PHOTOS, *CODES, *CELLS]
    tried = {ending for name in names for ending in [name[name.index(".") :]]}
    untried = {name for name, form in FORMATS.items() if not tried & set(form.endings)}
    assert untried == {
        "jpeg",
        "gtx",
        "quilt",
        "source",
        "kap",  # written by a verb of its own
    }  # one changes values, one is for other numbers, one has no cells
