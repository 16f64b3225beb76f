"""Chips for training, loaded as learners load them."""

from __future__ import annotations

import io
import json
import struct
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import zarr
from PIL import Image
from pyarrow import parquet

from program import Program
from rasters import ArrayRaster, raster, save
from zembrel.deliver.chips.layout import ChipGrid
from zembrel.deliver.chips.split import split_by_ground
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band

WHERE = Frame(by_code(32626), Affine(730_000, 5_100_000, 2.0, -2.0), 300, 220)
ROWS, COLUMNS = np.mgrid[:220, :300]
PHOTO = np.stack([ROWS, COLUMNS // 2, (ROWS + COLUMNS) // 4]).astype(np.uint8)
CODES = np.where(COLUMNS < 60, 7, np.where((ROWS > 150) & (COLUMNS > 240), 9, 2)).astype(np.uint8)
WORDS = ("deliver", "chips", "photo.tif", "--labels", "codes.tif", "--cells", "40", "--overlap", "8")


@pytest.fixture
def scene(zembrel: Program) -> Program:
    """A photo that tells rows and columns, without cells in a corner, and classes of it."""
    save(zembrel.folder / "photo.tif", raster(PHOTO, valid=~((ROWS < 90) & (COLUMNS < 90)), where=WHERE))
    legend = Legend.of(LegendEntry(code, f"c{code}", (code, 0, 0)) for code in (2, 7, 9))
    save(
        zembrel.folder / "codes.tif",
        ArrayRaster(WHERE, (Band("class", "uint8", legend=legend),), CODES[None]),
    )
    return zembrel


def index(path: Path) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = parquet.read_table(path).to_pylist()
    return rows


def at(row: dict[str, Any]) -> tuple[slice, slice]:
    """The cells of a chip, by its bounds."""
    left, top = round((row["west"] - 730_000) / 2), round((5_100_000 - row["north"]) / 2)
    return slice(top, top + 40), slice(left, left + 40)


def records(path: Path) -> Iterator[dict[str, bytes]]:
    """Features of each Example as raw messages, by a parser of the tests' own."""

    def fields(data: bytes) -> Iterator[tuple[int, bytes]]:
        place = 0

        def number() -> int:
            nonlocal place
            value = shift = 0
            while True:
                byte = data[place]
                place += 1
                value |= (byte & 127) << shift
                shift += 7
                if byte < 128:
                    return value

        while place < len(data):
            key, size = number(), number()
            assert key & 7 == 2
            yield key >> 3, data[place : place + size]
            place += size

    data, place = path.read_bytes(), 0
    while place < len(data):
        (length,) = struct.unpack_from("<Q", data, place)
        body = data[place + 12 : place + 12 + length]
        place += 16 + length
        held = {}
        ((_, features),) = fields(body)
        for _, entry in fields(features):
            parts = dict(fields(entry))
            ((_, value),) = fields(parts[2])
            held[parts[1].decode()] = next(fields(value))[1] if value else b""
        yield held


def test_chips_of_a_folder_are_placed_files_with_labels_of_the_same_cells(scene: Program) -> None:
    said = scene(*WORDS, "--out", "c/", "--json").json
    rows = index(scene.folder / "c/index.parquet")
    grid = len(range(0, 181, 32)) + 1  # and one that ends with the frame
    assert len(rows) == next(f["chips"] for f in said["checks"] if f["fact"] == "chips_read_back")
    assert len(rows) < grid * (len(range(0, 261, 32)) + 1), "empty ones are left out"
    for row in rows:
        image = np.asarray(Image.open(scene.folder / "c" / row["place"]).convert("RGB"))
        label = np.asarray(Image.open(scene.folder / "c" / row["place"].replace("images", "labels")))
        known = ~((ROWS < 90) & (COLUMNS < 90))[at(row)]
        assert (image[known] == np.moveaxis(PHOTO, 0, -1)[at(row)][known]).all() and (
            label == CODES[at(row)]
        ).all()
        assert row["valid"] == pytest.approx(known.mean()) and known.any()
        assert sum(entry["share"] for entry in row["classes"]) == pytest.approx(1)


@pytest.mark.parametrize("out", ["c.npz/", "c.zarr", "c.tar", "c.tfrecord"])
def test_every_container_holds_the_same_chips(scene: Program, out: str) -> None:
    form = ("--form", "npz") if "npz" in out else ()
    scene(*WORDS, *form, "--out", out)
    here = scene.folder
    rows = index(here / "c.npz/index.parquet" if form else here / f"{out}.index.parquet")
    if form:
        found = [
            [np.load(here / "c.npz" / row["place"])[name] for name in ("image", "valid", "label")]
            for row in rows
        ]
    elif out == "c.zarr":
        group = zarr.open_group(here / out, mode="r")
        found = [[group[name][n] for name in ("image", "valid", "label")] for n in range(len(rows))]  # type: ignore[index]
        assert group["image"].shape[0] == len(rows)  # type: ignore[union-attr]
    elif out == "c.tar":
        with tarfile.open(here / "c-train-00000.tar") as held:
            found = [
                [
                    np.load(io.BytesIO(held.extractfile(f"{row['number']:06d}.{n}.npy").read()))
                    for n in ("image", "valid", "label")
                ]  # type: ignore[union-attr]
                for row in rows
            ]
    else:
        found = [
            (np.frombuffer(made["image"], np.uint8).reshape(3, 40, 40), *(np.frombuffer(made[n], np.uint8).reshape(40, 40) for n in ("valid", "label")))
            for made in records(here / "c-train.tfrecord")
        ]  # fmt: skip
    assert len(found) == len(rows)
    for row, (image, valid, label) in zip(rows, found, strict=True):
        known = ~((ROWS < 90) & (COLUMNS < 90))[at(row)]
        assert (valid == known).all() and (label == CODES[at(row)]).all()
        assert (image[:, known] == PHOTO[(slice(None), *at(row))][:, known]).all()


def test_checksums_of_records_are_the_published_ones(scene: Program) -> None:
    """CRC-32C of 32 zero bytes is 8A9136AA (RFC 3720, B.4)."""
    from zembrel.deliver.chips.records import masked_crc

    crc = 0x8A9136AA
    assert masked_crc(bytes(32)) == ((crc >> 15 | crc << 17) + 0xA282EAD8) & 0xFFFFFFFF


def test_training_and_validation_share_no_ground(scene: Program) -> None:
    scene(*WORDS, "--validation", "0.3", "--block", "80", "--out", "c/")
    rows = index(scene.folder / "c/index.parquet")
    seen = {split: np.zeros(PHOTO.shape[1:], bool) for split in ("train", "validation")}
    for row in rows:
        seen[row["split"]][at(row)] = True
    assert not (seen["train"] & seen["validation"]).any()
    share = sum(row["split"] == "validation" for row in rows) / len(rows)
    assert 0.2 < share < 0.4
    told = json.loads((scene.folder / "c/statistics.json").read_text())
    known = seen["train"] & ~((ROWS < 90) & (COLUMNS < 90))
    assert (
        told["bands"][0]["low"] == PHOTO[0][known].min() and told["bands"][1]["high"] == PHOTO[1][known].max()
    )
    again = scene(*WORDS, "--validation", "0.3", "--block", "80", "--out", "d/") and index(
        scene.folder / "d/index.parquet"
    )
    assert again == rows
    other = scene(*WORDS, "--validation", "0.3", "--block", "80", "--seed", "4", "--out", "e/") and index(
        scene.folder / "e/index.parquet"
    )
    assert [row["split"] for row in other] != [row["split"] for row in rows]


@pytest.mark.parametrize("share", [0.05, 0.2, 0.35, 0.5])
@pytest.mark.parametrize(("shape", "overlap"), [((300, 260), 0), ((300, 260), 8), ((150, 310), 4)])
def test_the_share_for_validation_is_as_close_as_whole_blocks_allow(
    shape: tuple[int, int], overlap: int, share: float
) -> None:
    """All sets of blocks are tried, each chip that meets one for validation left out."""
    grid = ChipGrid(shape, 20, overlap)
    panes = [grid.place(number) for number in range(grid.count)]
    owners = [((p.top + 10) // 100, (p.left + 10) // 100) for p in panes]
    blocks = sorted(set(owners))
    tops, lefts = (np.array([getattr(p, side) for p in panes]) for side in ("top", "left"))
    meets = (np.abs(tops[:, None] - tops) < 20) & (np.abs(lefts[:, None] - lefts) < 20)

    def reached(held: np.ndarray) -> float:
        return float(held.sum() / (held.sum() + (~held & ~meets[:, held].any(axis=1)).sum()))

    which = np.array([blocks.index(owner) for owner in owners])
    sets = [np.isin(which, [b for b in range(len(blocks)) if n >> b & 1]) for n in range(1, 1 << len(blocks))]
    best = min(abs(reached(held) - share) for held in sets)
    places = split_by_ground(panes, share, 100, seed=3)
    held = np.array([any(p.pane == pane and p.split == "validation" for p in places) for pane in panes])
    found = sum(p.split == "validation" for p in places) / len(places)
    assert found == pytest.approx(reached(held)) and abs(found - share) <= best + 0.03


def test_statistics_are_those_of_the_cells(scene: Program) -> None:
    scene("deliver", "chips", "photo.tif", "--cells", "20", "--out", "c/")
    told = json.loads((scene.folder / "c/statistics.json").read_text())
    known = ~((ROWS < 90) & (COLUMNS < 90))
    for band, cells in zip(told["bands"], PHOTO, strict=True):
        assert band["mean"] == pytest.approx(cells[known].mean()) and band["deviation"] == pytest.approx(
            cells[known].std()
        )
    assert told["cells"] == known.sum() and told["type"] == "uint8"


def test_cells_void_in_any_band_are_void_and_nought(zembrel: Program) -> None:
    cells = np.full((2, 40, 40), 5, np.float32)
    valid = np.ones((2, 40, 40), bool)
    cells[1, :, :10], valid[1, :, :10] = -9999, False
    save(
        zembrel.folder / "a.tif",
        raster(cells, valid=valid, where=Frame(WHERE.crs, WHERE.affine, 40, 40), nodata=-9999.0),
    )
    zembrel("deliver", "chips", "a.tif", "--cells", "40", "--form", "npz", "--out", "c/")
    held = np.load(zembrel.folder / "c/train/000001.npz")
    assert (held["valid"][:, :10] == 0).all() and (held["image"][:, :, :10] == 0).all()
    told = json.loads((zembrel.folder / "c/statistics.json").read_text())
    assert told["cells"] == 40 * 30 and [band["low"] for band in told["bands"]] == [5, 5]


def test_balanced_chips_have_classes_about_as_often(scene: Program) -> None:
    def shares(*words: str) -> dict[int, float]:
        out = f"o{len(words)}/"
        scene("deliver", "chips", "photo.tif", "--labels", "codes.tif", "--cells", "20", *words, "--out", out)
        told = json.loads((scene.folder / out / "statistics.json").read_text())["classes"]
        return {int(code): count / sum(told.values()) for code, count in told.items()}

    plain, even = shares(), shares("--sampling", "balanced")
    assert min(plain.values()) < 0.12 < 0.2 < min(even.values())
    scene("deliver", "chips", "photo.tif", "--cells", "20", "--count", "7", "--out", "few/")
    assert len(index(scene.folder / "few/index.parquet")) <= 7


def test_features_are_labels_too(scene: Program) -> None:
    shape = [[730_100, 5_099_900], [730_300, 5_099_900], [730_300, 5_099_700], [730_100, 5_099_900]]
    text = {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, "features": [
        {"type": "Feature", "properties": {"kind": 5}, "geometry": {"type": "Polygon", "coordinates": [shape]}}]}  # fmt: skip
    (scene.folder / "woods.geojson").write_text(json.dumps(text))
    for words, code in ((("--field", "kind"), 5), ((), 1)):
        out = f"f{code}/"
        scene(
            "deliver",
            "chips",
            "photo.tif",
            "--labels",
            "woods.geojson",
            *words,
            "--cells",
            "50",
            "--out",
            out,
        )
        told = json.loads((scene.folder / out / "statistics.json").read_text())["classes"]
        assert set(told) == {"0", str(code)} and told[str(code)] == pytest.approx(100 * 100 / 2, rel=0.03)


@pytest.mark.parametrize(
    "code, words",
    [
        (2, ("--cells", "4", "--out", "c/")), (2, ("--cells", "400", "--out", "c/")), (2, ("--overlap", "256", "--out", "c/")),
        (2, ("--sampling", "even", "--out", "c/")), (2, ("--sampling", "balanced", "--out", "c/")), (2, ("--out", "c.h5")),
        (2, ("--seed", "-1", "--out", "c/")), (2, ("--block", "-4", "--out", "c/")), (2, ("--validation", "2", "--out", "c/")), (2, ("--form", "png", "--out", "c/")), (3, ("--labels", "photo.tif", "--cells", "40", "--out", "c/")),
        (4, ("--within", "730010,5099900,730100,5099990", "--cells", "40", "--out", "c.zarr")), (4, ("--cells", "40", "--ceiling", "1kB", "--out", "c/")),
    ],
)  # fmt: skip
def test_chips_that_cannot_be_are_refused(scene: Program, code: int, words: tuple[str, ...]) -> None:
    scene.refuses(code, "deliver", "chips", "photo.tif", *words)
