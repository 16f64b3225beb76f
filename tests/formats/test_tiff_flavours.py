"""The rarer ways to store an image, each written by another program or from bytes made by hand."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageCms

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.formats.tiff import tags
from zembrel.formats.tiff.assemble import Image as Directory
from zembrel.formats.tiff.assemble import write_tiff
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import write_crs
from zembrel.raster.model import HasOverviews


def cells_of(path: Path) -> Any:
    source = open_raster(path)
    return source.cells(source.frame.pane).cells


def one_strip(path: Path, data: bytes, shape: tuple[int, int], order: str = "<", **fields: Any) -> Path:
    """A TIFF of `shape` whose only strip is `data`; fields: tag names and values, shorts."""
    (path.parent / "strip").write_bytes(data)
    given = {getattr(tags, name.upper()): (tags.SHORT, value) for name, value in fields.items()}
    size = {tags.IMAGE_WIDTH: (tags.LONG, shape[1]), tags.IMAGE_LENGTH: (tags.LONG, shape[0])}
    base = {tags.COMPRESSION: (tags.SHORT, 1), tags.PHOTOMETRIC: (tags.SHORT, 1)}
    place, count = np.array([0]), np.array([len(data)])
    strip = Directory(base | size | given, path.parent / "strip", place, count, tiled=False)
    write_tiff(path, [strip], order=order)
    return path


@given(st.integers(1, 31).filter(lambda n: n != 16), st.integers(1, 40), st.integers(1, 30), st.booleans())
def test_integers_of_any_number_of_bits(
    tmp_path_factory: Any, bits: int, columns: int, rows: int, backwards: bool
) -> None:
    """Bits laid out by NumPy, each row begun on a byte, from the highest bit or from the lowest."""
    cells = np.random.default_rng(bits).integers(0, 2**bits, (rows, columns), np.uint64)
    each = (cells[:, :, None] >> np.arange(bits, dtype=np.uint64)[::-1] & np.uint64(1)).astype(np.uint8)
    packed = np.packbits(each.reshape(rows, -1), axis=1)
    if backwards:
        packed = np.packbits(np.unpackbits(packed, axis=1, bitorder="little"), axis=1)
    folder = tmp_path_factory.mktemp("bits")
    fields = {"bits_per_sample": bits, "fill_order": 2 if backwards else 1}
    path = one_strip(folder / "b.tif", packed.tobytes(), (rows, columns), **fields)
    np.testing.assert_array_equal(cells_of(path)[0], cells)


@pytest.mark.parametrize("bits, predictor", [(16, 1), (24, 1), (16, 3), (24, 3)])
@pytest.mark.parametrize("order", "<>")
def test_short_floats(tmp_path: Path, bits: int, predictor: int, order: str) -> None:
    """Values of few binary places, which floats of 16 and 24 bits hold exactly."""
    values = np.random.default_rng(3).integers(-500, 500, (20, 30)) / 8.0
    if bits == 16:
        stored = values.astype(">f2").view(np.uint8).reshape(20, 30, 2)
    else:  # sign, 7 bits of exponent (bias 63), 16 of fraction
        wide = values.astype(np.float32).view(np.uint32)
        exponent = ((wide >> 23 & 255).astype(int) - 127 + 63) * (values != 0)
        short = (wide >> 31) << 23 | exponent.astype(np.uint32) << 16 | (wide >> 7 & 0xFFFF)
        stored = short.astype(">u4").view(np.uint8).reshape(20, 30, 4)[:, :, 1:]
    if predictor == 3:
        planes = stored.transpose(0, 2, 1).reshape(20, -1)
        data = np.diff(planes, axis=1, prepend=np.uint8(0)).astype(np.uint8)
    else:
        data = stored if order == ">" else stored[:, :, ::-1]
    fields = {"bits_per_sample": bits, "sample_format": 3, "predictor": predictor}
    path = one_strip(tmp_path / "f.tif", data.tobytes(), (20, 30), order, **fields)
    np.testing.assert_array_equal(cells_of(path)[0], values)


SMOOTH = (np.add.outer(np.arange(96), np.arange(128))[:, :, None] // 2 + [0, 20, 40]).astype(np.uint8)
WRITTEN = [
    ("jpeg", {"compression": "jpeg", "photometric": "ycbcr", "tile": (32, 32)}, SMOOTH),
    ("jpeg", {"compression": "jpeg", "photometric": "rgb", "rowsperstrip": 16}, SMOOTH),
    ("jpeg", {"compression": "jpeg", "tile": (32, 48)}, SMOOTH[:, :, 0]),
    ("jpeg2000", {"compression": "jpeg2000", "photometric": "rgb", "tile": (32, 32)}, SMOOTH),
    ("webp", {"compression": "webp", "photometric": "rgb", "tile": (32, 32)}, SMOOTH),
    ("png", {"compression": "png", "photometric": "rgb", "tile": (32, 32)}, SMOOTH),
    ("lzma", {"compression": "lzma", "predictor": 2, "tile": (32, 32)}, SMOOTH[:, :, 0].astype("u2")),
    ("lerc", {"compression": "lerc", "tile": (32, 32)}, SMOOTH[:, :, 0].astype("f4") / 7),
    ("lerc", {"compression": "lerc", "compressionargs": {"compression": "deflate"}}, SMOOTH[:, :, 1]),
    ("lerc", {"compression": "lerc", "compressionargs": {"compression": "zstd"}}, SMOOTH[:, :, 2]),
]


@pytest.mark.parametrize("name, options, cells", WRITTEN)
def test_picture_codecs_decode_as_elsewhere(
    tmp_path: Path, name: str, options: dict[str, Any], cells: Any
) -> None:
    tifffile.imwrite(tmp_path / "p.tif", cells, **options)
    seen = tifffile.imread(tmp_path / "p.tif")
    mine = cells_of(tmp_path / "p.tif")
    np.testing.assert_array_equal(np.squeeze(mine), seen.transpose(2, 0, 1) if seen.ndim == 3 else seen)


@pytest.mark.parametrize("codec", ["tiff_ccitt", "group3", "group4", "tiff_lzw", "tiff_adobe_deflate"])
def test_fax_codecs_of_another_writer(tmp_path: Path, codec: str) -> None:
    bits = random_cells(37, 83) > 200
    Image.fromarray(bits).save(tmp_path / "fax.tif", compression=codec)
    np.testing.assert_array_equal(cells_of(tmp_path / "fax.tif")[0], bits)


def test_jpeg_with_shared_tables(tmp_path: Path) -> None:
    Image.fromarray(SMOOTH).save(tmp_path / "t.tif", compression="jpeg", quality=80)
    with tifffile.TiffFile(tmp_path / "t.tif") as file:
        assert file.pages[0].jpegtables
    with Image.open(tmp_path / "t.tif") as picture:
        np.testing.assert_array_equal(cells_of(tmp_path / "t.tif"), np.asarray(picture).transpose(2, 0, 1))


def test_lzw_of_the_old_bit_order(tmp_path: Path) -> None:
    """Codes from the lowest bit on, as writers before TIFF 5 had them: literals, the table often cleared."""
    cells = random_cells(24, 24)
    codes: list[int] = []
    for n, value in enumerate(cells.ravel().tolist()):
        codes += [256] * (n % 200 == 0) + [value]
    bits = np.array([code >> n & 1 for code in [*codes, 257] for n in range(9)], np.uint8)
    data = np.packbits(bits, bitorder="little").tobytes()
    path = one_strip(tmp_path / "old.tif", data, (24, 24), bits_per_sample=8, compression=5)
    np.testing.assert_array_equal(cells_of(path)[0], cells)


def test_inks_become_colours_as_another_reader_shows_them(tmp_path: Path) -> None:
    picture = Image.fromarray(random_cells(40, 50, 4), "CMYK")
    picture.save(tmp_path / "inks.tif")
    source = open_raster(tmp_path / "inks.tif")
    assert [band.colour for band in source.bands] == ["red", "green", "blue"]
    shown = np.asarray(picture.convert("RGB")).transpose(2, 0, 1).astype(int)
    assert np.abs(cells_of(tmp_path / "inks.tif").astype(int) - shown).max() <= 1


def test_lab_becomes_srgb_as_colour_management_has_it(tmp_path: Path) -> None:
    """Soft colours, inside the gamut, so that no two ways to clip differ."""
    colours = 60 + random_cells(32, 32, 3) // 2
    to_lab = ImageCms.buildTransform(
        ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB"), "RGB", "LAB"
    )
    lab = ImageCms.applyTransform(Image.fromarray(colours), to_lab)
    assert lab is not None
    lab.save(tmp_path / "lab.tif")
    gap = np.abs(cells_of(tmp_path / "lab.tif").transpose(1, 2, 0).astype(int) - colours)
    assert gap.mean() < 1.2 and gap.max() <= 8


def test_subsampled_luma_and_colour_differences(tmp_path: Path) -> None:
    """Units of 2 x 2 luma with one pair of differences; grey where both are 128, red by Cr alone."""
    luma = random_cells(4, 6).reshape(2, 2, 3, 2).transpose(0, 2, 1, 3).reshape(6, 4)
    units = np.concatenate([luma, np.full((6, 1), 128), np.full((6, 1), 128)], axis=1).astype(np.uint8)
    fields = {"bits_per_sample": [8] * 3, "samples_per_pixel": 3, "photometric": 6}
    path = one_strip(tmp_path / "y.tif", units.tobytes(), (4, 6), **fields, ycbcr_subsampling=[2, 2])
    np.testing.assert_array_equal(cells_of(path), np.repeat(random_cells(4, 6)[None], 3, axis=0))
    units[:, 5] = 228
    path = one_strip(tmp_path / "r.tif", units.tobytes(), (4, 6), **fields, ycbcr_subsampling=[2, 2])
    expected = np.minimum(np.floor(random_cells(4, 6) + 1.402 * 100 + 0.5), 255)
    np.testing.assert_array_equal(cells_of(path)[0], expected)


def test_associated_alpha_is_taken_out_of_the_colours(tmp_path: Path) -> None:
    alpha = np.array([[255, 128, 0]], np.uint8)
    stored = np.dstack([[[200, 100, 0]], [[100, 50, 0]], [[10, 5, 0]], alpha]).astype(np.uint8)
    tifffile.imwrite(tmp_path / "a.tif", stored, photometric="rgb", extrasamples=["assocalpha"])
    source = open_raster(tmp_path / "a.tif")
    block = source.cells(source.frame.pane)
    assert block.cells[:, 0, :2].tolist() == [[200, 199], [100, 100], [10, 10], [255, 128]]
    assert block.valid_of(0).tolist() == [[True, True, False]]


def test_band_facts_of_an_xml_tag(tmp_path: Path) -> None:
    text = (
        "<Whatever><Item name='DESCRIPTION' sample='0' role='description'>depth</Item>"
        "<Item name='UNITTYPE' sample='0' role='unittype'>m</Item>"
        "<Item name='SCALE' sample='0' role='scale'>0.25</Item>"
        "<Item name='OFFSET' sample='0' role='offset'>-10</Item><Item sample='7'>x</Item></Whatever>"
    )
    tifffile.imwrite(tmp_path / "x.tif", random_cells(5, 5), extratags=[(42112, "s", 0, text, True)])
    band = open_raster(tmp_path / "x.tif").bands[0]
    assert (band.name, band.unit, band.scale, band.offset) == ("depth", "m", 0.25, -10.0)
    for bad in ("<!DOCTYPE a><a/>", "<a><Item sample='0' role='scale'>0</Item></a>", "<a", "words"):
        tifffile.imwrite(tmp_path / "b.tif", random_cells(5, 5), extratags=[(42112, "s", 0, bad, True)])
        assert open_raster(tmp_path / "b.tif").bands[0].name == "band1"


def test_overviews_and_masks_beside_the_image_and_in_sub_directories(tmp_path: Path) -> None:
    full, half, known = random_cells(64, 80), random_cells(32, 40, seed=2), random_cells(64, 80, seed=3) > 99
    tifffile.imwrite(tmp_path / "a.tif", full, tile=(16, 16))
    tifffile.imwrite(tmp_path / "a.tif.ovr", half, tile=(16, 16), subfiletype=1)
    tifffile.imwrite(tmp_path / "a.tif.msk", known.astype(np.uint8) * 255)
    with tifffile.TiffWriter(tmp_path / "b.tif") as file:
        file.write(full, subifds=1)
        file.write(half, subfiletype=1)
    for name in ("a.tif", "b.tif"):
        source = open_raster(tmp_path / name)
        assert isinstance(source, HasOverviews)
        small = source.coarser(2.0)
        np.testing.assert_array_equal(small.cells(small.frame.pane).cells[0], half)
        np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], full)
    source = open_raster(tmp_path / "a.tif")
    np.testing.assert_array_equal(source.cells(source.frame.pane).valid, known)


def test_a_mask_of_each_band(tmp_path: Path) -> None:
    cells, known = random_cells(20, 30, 3), random_cells(20, 30, 3, seed=5) > 128
    with tifffile.TiffWriter(tmp_path / "m.tif") as file:
        file.write(cells, photometric="rgb")
        file.write(known.astype(np.uint8), photometric="rgb", subfiletype=2)
    with tifffile.TiffFile(tmp_path / "m.tif", mode="r+b") as file:
        file.pages[1].tags[254].overwrite(4)
    source = open_raster(tmp_path / "m.tif")
    block = source.cells(source.frame.pane)
    np.testing.assert_array_equal(block.valid, known.transpose(2, 0, 1))


def test_tie_points_that_are_a_grid_are_a_frame(tmp_path: Path) -> None:
    def ties(bend: float) -> tuple[Any, ...]:
        grid = [
            (c, r, 0, 500 + 2 * c + bend * c * r, 900 - 3 * r, 0) for c in (0, 20, 40) for r in (0, 15, 30)
        ]
        return (33922, "d", 54, tuple(np.ravel(grid)), True)

    tifffile.imwrite(tmp_path / "g.tif", random_cells(30, 40), extratags=[ties(0.0)])
    where = open_raster(tmp_path / "g.tif").frame
    assert where.cell == pytest.approx((2.0, 3.0)) and where.affine.at(0, 0) == pytest.approx((500, 900))
    tifffile.imwrite(tmp_path / "b.tif", random_cells(30, 40), extratags=[ties(0.1)])
    assert open_raster(tmp_path / "b.tif").frame.cell == (1.0, 1.0)


def test_complex_cells_are_refused(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "c.tif", np.ones((5, 5), np.complex64))
    with pytest.raises(InputError, match="complex cells"):
        open_raster(tmp_path / "c.tif")


@pytest.mark.parametrize(
    "codec, most", [("jpeg:95", 6), ("webp", 0), ("webp:90", 12), ("lerc", 0), ("lerc:2", 2)]
)
@pytest.mark.parametrize("bands", [1, 3])
def test_picture_codecs_written_are_read_elsewhere(tmp_path: Path, codec: str, most: int, bands: int) -> None:
    """The same cells by an independent reader, as far from the original as the codec may go."""
    cells = np.ascontiguousarray(SMOOTH.transpose(2, 0, 1)[:bands])
    if codec.startswith("webp") and bands == 1:
        pytest.skip("WebP holds colours alone")
    path = save(tmp_path / "w.tif", raster(cells), compress=codec, tile="64")
    mine = cells_of(path)
    with tifffile.TiffFile(path) as file:
        seen = file.pages[0].asarray()
        assert [page.shape[:2] for page in file.pages] == [(96, 128), (48, 64)]
    np.testing.assert_array_equal(np.squeeze(mine), seen.transpose(2, 0, 1) if bands == 3 else seen)
    assert np.abs(mine.astype(int) - cells).max() <= most
    if codec.startswith("jpeg"):
        np.testing.assert_array_equal(np.squeeze(np.asarray(Image.open(path))), seen)


def test_lossy_cells_keep_their_validity_exact(tmp_path: Path) -> None:
    known = random_cells(96, 128) > 50
    path = save(
        tmp_path / "m.tif",
        raster(SMOOTH[:, :, 0], known, nodata=0),
        compress="jpeg",
        tile="64",
        overviews="no",
    )
    source = open_raster(path)
    np.testing.assert_array_equal(source.cells(source.frame.pane).valid_of(0), known)
    heights = np.where(known, SMOOTH[:, :, 0] / 7, np.nan).astype(np.float32)
    path = save(tmp_path / "l.tif", raster(heights, known), compress="lerc:0.01", tile="64")
    block = open_raster(path).cells(frame(128, 96).pane)
    np.testing.assert_array_equal(block.valid_of(0), known)
    assert np.abs(block.cells[0] - heights)[known].max() <= 0.01


@pytest.mark.parametrize("bands", [1, 3, 5])
def test_strips_on_demand(tmp_path: Path, bands: int) -> None:
    cells = random_cells(bands, 77, 53, kind="int16")
    known = random_cells(77, 53) > 50
    path = save(tmp_path / "s.tif", raster(cells, known), strip="16", compress="lzw")
    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        assert not page.is_tiled and page.rowsperstrip == 16 and len(file.pages) == 2
        seen = page.asarray()
    seen = seen.transpose(2, 0, 1) if bands == 3 else seen.reshape(cells.shape)
    np.testing.assert_array_equal(seen, np.where(known, cells, 0))
    block = open_raster(path).cells(frame(53, 77).pane)
    np.testing.assert_array_equal(block.valid_of(0), known)


@pytest.mark.parametrize("coding", [None, "zlib", "lzw", "packbits", "zstd", "lzma", "png"])
def test_a_last_strip_may_be_as_high_as_the_others(tmp_path: Path, coding: str | None) -> None:
    whole = random_cells(32, 40)
    tifffile.imwrite(tmp_path / "s.tif", whole, rowsperstrip=16, compression=coding, predictor=False)
    with tifffile.TiffFile(tmp_path / "s.tif") as file:
        at = file.pages[0].tags[257].valueoffset
    data = bytearray((tmp_path / "s.tif").read_bytes())
    data[at : at + 2] = (20).to_bytes(2, "little")
    (tmp_path / "s.tif").write_bytes(data)
    source = open_raster(tmp_path / "s.tif")
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], whole[:20])


@pytest.mark.parametrize("scheme", ["group3", "group4", "tiff_ccitt"])
@pytest.mark.parametrize("width", [31, 800, 6000])
def test_fax_pages_are_what_their_writer_drew(tmp_path: Path, scheme: str, width: int) -> None:
    """Long runs, single cells and noise, by the picture package."""
    page = random_cells(200, width) > 250
    page[50:90, : width // 2] = True
    page[90:120, ::2] = True
    Image.fromarray(page).save(tmp_path / "f.tif", compression=scheme)
    source = open_raster(tmp_path / "f.tif")
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], page)


def test_a_broken_fax_page_is_one_error_of_ours(zembrel: Program) -> None:
    Image.fromarray(random_cells(300, 800) > 128).save(zembrel.folder / "f.tif", compression="group4")
    data = bytearray((zembrel.folder / "f.tif").read_bytes())
    data[4000:4100] = random_cells(100, seed=9).tobytes()
    (zembrel.folder / "f.tif").write_bytes(data)
    what, why, _ = zembrel.refuses(3, "convert", "f.tif", "--out", "g.tif")
    assert "is broken" in what and "does not decode" in why


def test_a_chain_of_images_that_returns_to_itself_is_read_once(tmp_path: Path) -> None:
    first, second = random_cells(8, 9), random_cells(8, 9, seed=2)
    with tifffile.TiffWriter(tmp_path / "c.tif") as file:
        file.write(first)
        file.write(second)
    with tifffile.TiffFile(tmp_path / "c.tif") as file:
        start, last = file.pages[0].offset, file.pages[1].offset
        many = len(file.pages[1].tags)
    data = bytearray((tmp_path / "c.tif").read_bytes())
    data[last + 2 + 12 * many : last + 6 + 12 * many] = start.to_bytes(4, "little")
    (tmp_path / "c.tif").write_bytes(data)
    for layer, cells in (("1", first), ("2", second)):
        source = open_raster(tmp_path / "c.tif", layer)
        np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], cells)
        assert "its chain of images loops back: the 2 before are read" in source.remarks  # type: ignore[attr-defined]


def test_opacity_that_nobody_declared_is_opacity(tmp_path: Path) -> None:
    """Red, green, blue and one more without ExtraSamples: what other readers take for RGBA."""
    cells = random_cells(6, 7, 4)
    tifffile.imwrite(tmp_path / "o.tif", cells, photometric="rgb", extrasamples=["unassalpha"])
    data = (tmp_path / "o.tif").read_bytes()
    told = (338).to_bytes(2, "little") + (3).to_bytes(2, "little")
    assert data.count(told) == 1
    (tmp_path / "o.tif").write_bytes(data.replace(told, (340).to_bytes(2, "little") + told[2:]))
    with Image.open(tmp_path / "o.tif") as picture:
        assert picture.mode == "RGBA"
    source = open_raster(tmp_path / "o.tif")
    assert [band.colour for band in source.bands] == ["red", "green", "blue", "alpha"]
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells, cells.transpose(2, 0, 1))


def test_a_prj_beside_gives_the_crs_that_keys_do_not(tmp_path: Path) -> None:
    tags = [
        (33550, "d", 3, (2.0, 2.0, 0.0), True),
        (33922, "d", 6, (0.0, 0.0, 0, 730000.0, 5100000.0, 0), True),
    ]
    tifffile.imwrite(tmp_path / "p.tif", random_cells(5, 5), extratags=tags)
    assert open_raster(tmp_path / "p.tif").frame.crs is None
    (tmp_path / "p.prj").write_text(write_crs(by_code(32626)))
    source = open_raster(tmp_path / "p.tif")
    assert (
        source.frame.crs is not None and source.frame.crs.code == 32626 and source.frame.bounds[0] == 730000
    )
    assert "CRS of the .prj beside it" in source.remarks  # type: ignore[attr-defined]
