"""Results tell how they came about: read back by what shares no code with their writers, the same whenever made."""

from __future__ import annotations

import gzip
import json
import sqlite3
import struct
import zipfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import reduce
from pathlib import Path
from typing import Any

import blake3
import h5py
import pyarrow.parquet as pq
import pytest
import tifffile
import zarr
from PIL import Image

import depth
from points.clouds import cloud, write
from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.inputs.options import Output
from zembrel.verbs.receiptfile import receipt


def of_las(path: Path) -> str:
    """By LAS 1.4 R15: the header's length, the number of records, and each behind its 54 bytes."""
    data = path.read_bytes()
    at, (count,) = struct.unpack("<H", data[94:96])[0], struct.unpack("<I", data[100:104])
    for _ in range(count):
        user, number, size = struct.unpack("<16sHH", data[at + 2 : at + 22])
        if (user.rstrip(b"\0"), number) == (b"zembrel", 1):
            return data[at + 54 : at + 54 + size].decode()
        at += 54 + size
    raise AssertionError("no record")


def of_pmtiles(path: Path) -> str:
    data = path.read_bytes()
    at, size = struct.unpack("<QQ", data[24:40])
    return json.dumps(json.loads(gzip.decompress(data[at : at + size]))["provenance"])


def of_png(path: Path) -> str:
    with Image.open(path) as picture:
        return str(picture.text["provenance"])  # type: ignore[attr-defined]


def of_exif(path: Path) -> str:
    with Image.open(path) as picture:
        return str(picture.getexif()[0x010E])


def of_base(statement: str) -> Callable[[Path], str]:
    return lambda path: str(sqlite3.connect(path).execute(statement).fetchone()[0])


FORMATS: dict[str, tuple[str, tuple[str, ...], Callable[[Path], str]]] = {
    "o.tif": ("photo.tif", ("convert",), lambda path: tifffile.TiffFile(path).pages[0].tags[270].value),  # type: ignore[union-attr]
    "o.png": ("photo.tif", ("convert",), of_png),
    "o.jpg": ("photo.tif", ("convert",), of_exif),
    "o.webp": ("photo.tif", ("convert",), of_exif),
    "o.nc": ("photo.tif", ("convert",), lambda path: h5py.File(path).attrs["provenance"]),
    "o.zarr": ("photo.tif", ("convert",), lambda path: str(zarr.open_group(path, mode="r").attrs["provenance"])),
    "o.geojson": ("codes.tif", ("polygonize",), lambda path: json.dumps(json.loads(path.read_text())["provenance"])),
    "o.gpkg": ("codes.tif", ("polygonize",), of_base("SELECT metadata FROM gpkg_metadata JOIN gpkg_metadata_reference ON md_file_id = id WHERE table_name = 'o'")),
    "o.parquet": ("codes.tif", ("polygonize",), lambda path: pq.read_metadata(path).metadata[b"provenance"].decode()),
    "o.las": ("p.laz", ("thin", "--every", "2"), of_las),
    "o.laz": ("p.laz", ("thin", "--every", "2"), of_las),
    "o.copc.laz": ("p.laz", ("convert",), of_las),
    "o.mbtiles": ("photo.tif", ("deliver", "pyramid"), of_base("SELECT value FROM metadata WHERE name = 'provenance'")),
    "o.pmtiles": ("photo.tif", ("deliver", "pyramid"), of_pmtiles),
    "tiles.gpkg": ("photo.tif", ("deliver", "pyramid"), of_base("SELECT metadata FROM gpkg_metadata")),
    "o.kmz": ("photo.tif", ("deliver", "globe"), lambda path: zipfile.ZipFile(path).read("provenance.json").decode()),
}  # fmt: skip


@pytest.fixture
def program(zembrel: Program) -> Program:
    here = zembrel.folder
    save(here / "in/photo.tif", raster(random_cells(3, 60, 80), where=frame(80, 60)))
    save(here / "in/codes.tif", raster(random_cells(60, 80) % 3, where=frame(80, 60)))
    write(here / "in/p.laz", cloud(500))
    return zembrel


def steps(text: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(text)["steps"]
    return found


@pytest.mark.parametrize("out", depth.some(FORMATS, [*FORMATS][::2]))
def test_each_format_tells_it_inside_in_its_own_way(program: Program, out: str) -> None:
    source, words, read = FORMATS[out]
    program(*words, f"in/{source}", "--out", out, SOURCE_DATE_EPOCH="1800000000")
    (step,) = steps(read(program.folder / out))
    given = (program.folder / "in" / source).read_bytes()
    expected = {"name": source, "bytes": len(given), "blake3": blake3.blake3(given).hexdigest()}
    assert step["verb"] == " ".join(words).partition(" --")[0] and step["inputs"] == [expected]
    assert step["options"] == ({"every": 2} if "--every" in words else {}) and step["version"]
    told = program("describe", out, "--history", "--json").json["layers"][0]["steps"]
    assert told == [step]


def test_what_inputs_tell_comes_before_and_each_step_once(program: Program) -> None:
    program("clip", "in/photo.tif", "--within", "730100,5099600,730500,5099900", "--out", "a.tif")
    program("reproject", "a.tif", "--crs", "EPSG:3857", "--out", "b.tif")
    program("stack", "b.tif", "b.tif", "--out", "c.tif")
    said = program("describe", "--history", "c.tif").out
    found = steps(tifffile.TiffFile(program.folder / "c.tif").pages[0].tags[270].value)  # type: ignore[union-attr]
    assert [step["verb"] for step in found] == ["clip", "reproject", "stack"]
    assert found[1]["operations"][0]["to"].startswith("EPSG:3857") and found[0]["options"] == {
        "within": "730100,5099600,730500,5099900"
    }
    assert "1  clip   --within 730100" in said and "EPSG:32626" in said and "3  stack" in said


def test_nothing_of_the_machine_is_in_it_and_the_same_work_gives_the_same_bytes(
    program: Program, tmp_path_factory: pytest.TempPathFactory
) -> None:
    area = program.folder / "in/area.geojson"
    ring = [[730_100, 5_099_500], [730_600, 5_099_500], [730_600, 5_099_900], [730_100, 5_099_500]]
    shape = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
    crs = {"type": "name", "properties": {"name": "EPSG:32626"}}
    area.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": [shape]}))
    words = ("clip", "in/photo.tif", "--within", area, "--touching", "--out")
    program(*words, "a.tif")
    other = Program(tmp_path_factory.mktemp("other"))
    (other.folder / "in").symlink_to(program.folder / "in")
    other(
        *words[:1],
        program.folder / "in/photo.tif",
        *words[2:],
        "x/b.tif",
        "--workers",
        "1",
        "--memory",
        "64MB",
    )
    assert (other.folder / "x/b.tif").read_bytes() == (program.folder / "a.tif").read_bytes()
    assert str(program.folder) not in tifffile.TiffFile(program.folder / "a.tif").pages[0].tags[270].value  # type: ignore[union-attr]
    (other.folder / "j.job.toml").write_text(
        f'[[step]]\nid="a"\nverb="clip"\ninputs="in/photo.tif"\nwithin="{area}"\ntouching=true\nout="c.tif"\n'
    )
    other("run", "j")
    assert (other.folder / "c.tif").read_bytes() == (program.folder / "a.tif").read_bytes()


def test_of_many_inputs_each_result_tells_its_own(program: Program) -> None:
    program("convert", "in/photo.tif", "in/codes.tif", "--out", "o/")
    for name in ("photo", "codes"):
        (step,) = steps(tifffile.TiffFile(program.folder / f"o/{name}.tif").pages[0].tags[270].value)  # type: ignore[union-attr]
        assert [row["name"] for row in step["inputs"]] == [f"{name}.tif"]


def test_steps_in_one_pass_are_all_told(program: Program) -> None:
    (program.folder / "j.job.toml").write_text(
        '[[step]]\nid="a"\nverb="resample"\ninputs="in/photo.tif"\ncell="20m"\n'
        '[[step]]\nid="b"\nverb="reproject"\ninputs="@a"\ncrs="EPSG:3857"\nout="b.tif"\n'
    )
    program("run", "j")
    found = steps(tifffile.TiffFile(program.folder / "b.tif").pages[0].tags[270].value)  # type: ignore[union-attr]
    assert [(step["verb"], len(step["inputs"])) for step in found] == [("resample", 1), ("reproject", 0)]


def test_beside_a_result_it_is_told_on_request_alone(program: Program) -> None:
    program("convert", "in/codes.tif", "--out", "a.asc")
    assert program("describe", "a.asc", "--history").out == "a.asc   tells nothing of how it came about\n"
    program("convert", "in/codes.tif", "--out", "b.asc", "--provenance")
    assert sorted(p.name for p in program.folder.glob("b*")) == ["b.asc", "b.asc.provenance.json", "b.prj"]
    assert "1  convert" in program("describe", "b.asc", "--history").out
    program("convert", "in/codes.tif", "--out", "b.asc", "--provenance", "--replace")
    other = program.folder / "c.asc.provenance.json"
    other.write_text('{"mine": 1}')
    what, _, _ = program.refuses(4, "convert", "in/codes.tif", "--out", "c.asc", "--provenance")
    assert "c.asc.provenance.json" in what and other.read_text() == '{"mine": 1}'


@pytest.mark.parametrize(
    "text", ["{", '{"zembrel": 1, "steps": 5}', '{"zembrel": 1, "steps": [7, {"verb": [1]}]}', "[" * 5000]
)
def test_what_is_damaged_tells_nothing_and_harms_nothing(program: Program, text: str) -> None:
    image = Image.new("L", (30, 20))
    words = Image.Exif()
    words[0x010E] = text
    image.save(program.folder / "a.jpg", exif=words)
    program("convert", "a.jpg", "--out", "b.png")
    assert program("describe", "a.jpg", "--history").out.startswith("a.jpg   ")


def test_a_record_becomes_a_page_with_pictures_and_checks(program: Program) -> None:
    (program.folder / "j.job.toml").write_text(
        'title="Two <steps>"\n[[step]]\nid="a"\nverb="resample"\ninputs="in/photo.tif"\ncell="20m"\nout="a.tif"\n'
        '[[step]]\nid="b"\nverb="polygonize"\ninputs="in/codes.tif"\nout="b.gpkg"\n'
    )
    program("run", "j", "--only", "b")
    program("receipt", "j", "--out", "j.html")
    assert "1 steps" not in (half := (program.folder / "j.html").read_text()) and "not done yet: a<" in half
    program("run", "j")
    program("receipt", "j", "--out", "j.html", "--replace")
    page = (program.folder / "j.html").read_text()
    assert "Two &lt;steps&gt;" in page and page.count("data:image/png;base64,") == 2
    assert "all cells valid" in page and "http" not in page.replace("http://www.w3.org", "")
    said = program("convert", "in/photo.tif", "--out", "c.tif", "--json").out
    (program.folder / "c.json").write_text(said)
    program("receipt", "c.json", "--out", "c.html")
    assert "convert" in (program.folder / "c.html").read_text()
    for words, wrong in (
        (("in/photo.tif", "--out", "x.html"), "in/photo.tif is no receipt"),
        (("none.json", "--out", "x.html"), "none.json cannot be read"),
        (("c.json", "--out", "x.tif"), "x.tif"),
    ):
        what, _, _ = program.refuses(2 if "x.tif" in words else 3, "receipt", *words)
        assert wrong in what
    whole = json.loads(said)
    for path in paths_in(whole):
        for value in (7, "x", None, [3], {"a": 1}):
            odd = json.loads(said)
            *way, last = path
            reduce(lambda held, key: held[key], way, odd)[last] = value
            (program.folder / "odd.json").write_text(json.dumps(odd))
            with suppress(InputError):
                receipt(Output(program.folder / "odd.html", replace=True), str(program.folder / "odd.json"))


def paths_in(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Ways to all that is in nested lists and objects."""
    pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in pairs:
        yield (*way, key)
        yield from paths_in(inner, (*way, key))
