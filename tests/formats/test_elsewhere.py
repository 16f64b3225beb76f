"""Inputs that are no plain files: members of archives, addresses on the web, formats of other packages."""

from __future__ import annotations

import gzip
import io
import re
import tarfile
import threading
import tomllib
import zipfile
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np
import pytest
import tifffile
import xarray

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.formats import open_raster

PLUGIN = Path(__file__).parents[1] / "plugin"


@pytest.fixture
def program(tmp_path: Path) -> Program:
    return Program(tmp_path)


@pytest.fixture
def sheet(tmp_path: Path) -> bytes:
    """A large sheet, and its place beside a picture."""
    path = save(tmp_path / "s.tif", raster(random_cells(1500, 1500)), tile="128", overviews="no")
    return path.read_bytes()


def packed(kind: str, members: dict[str, bytes], method: int = zipfile.ZIP_DEFLATED) -> bytes:
    held = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(held, "w", method) as file:
            for name, data in members.items():
                file.writestr(name, data)
    else:
        with tarfile.open(fileobj=held, mode=f"w:{kind.partition('.')[2]}") as bundle:  # type: ignore[call-overload]
            for name, data in members.items():
                entry = tarfile.TarInfo(name)
                entry.size = len(data)
                bundle.addfile(entry, io.BytesIO(data))
    return held.getvalue()


@pytest.mark.parametrize("kind", ["zip", "tar", "tar.gz", "tar.xz"])
def test_archives_are_read_like_folders(program: Program, sheet: bytes, kind: str) -> None:
    picture = save(program.folder / "p.png", raster(random_cells(20, 30)))
    members = {"survey/s.tif": sheet, "survey/p.png": picture.read_bytes(), "survey/p.pgw": b"2 0 0 -2 11 99",
               "readme.md": b"words", "../../escape.png": picture.read_bytes()}  # fmt: skip
    (program.folder / f"a.{kind}").write_bytes(packed(kind, members))
    before = set(program.folder.parent.rglob("escape*"))
    read = program("describe", f"a.{kind}", "--json").json["layers"]
    assert [Path(layer["path"]).name for layer in read] == ["s.tif", "p.png", "escape.png"]
    assert read[1]["frame"]["cell"] == [2, 2]
    assert set(program.folder.parent.rglob("escape*")) == before
    program("convert", f"a.{kind}", "--layer", "survey/s.tif", "--out", "b.tif")
    one, other = open_raster(program.folder / "s.tif"), open_raster(program.folder / "b.tif")
    np.testing.assert_array_equal(one.cells(one.frame.pane).cells, other.cells(other.frame.pane).cells)


def test_a_single_file_in_gz_keeps_its_name(program: Program, sheet: bytes) -> None:
    (program.folder / "z.tif.gz").write_bytes(gzip.compress(sheet))
    program("convert", "z.tif.gz", "--out", "out/")
    assert (program.folder / "out" / "z.tif").is_file()


def test_traps_and_broken_archives_are_refused(program: Program, sheet: bytes) -> None:
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_LZMA) as file:
        file.writestr("b.tif", b"II*\0" + bytes(60_000_000))
    whole = packed("zip", {"s.tif": sheet})
    for name, data, word in (
        ("b.zip", bomb.getvalue(), "unpacks to more than it can hold"),
        ("c.zip", whole[: len(whole) // 2], "no sound archive"),
        (
            "d.zip",
            whole.replace(sheet[5000:5040], bytes(40)) if sheet[5000:5040] in whole else whole[:99],
            "sound",
        ),
        ("e.tar.gz", gzip.compress(b"words"), "no sound archive"),
        ("f.tif.gz", gzip.compress(sheet)[:5000], "no sound archive"),
        ("g.zip", packed("zip", {"readme.md": b"words"}), "holds no raster"),
    ):
        (program.folder / name).write_bytes(data)
        assert word in program.refuses(3, "describe", name)[0], name


@pytest.mark.deep
def test_limits_are_lifted_for_inputs_that_are_trusted(program: Program) -> None:
    """One limit of each make: what an archive unpacks to, how large a picture is, how many parts a file has."""
    noughts = np.zeros((8000, 8000), np.uint8)
    save(program.folder / "s.tif", raster(noughts), compress="none")
    (program.folder / "b.zip").write_bytes(
        packed("zip", {"s.tif": (program.folder / "s.tif").read_bytes()}, zipfile.ZIP_LZMA)
    )
    assert "--trust-inputs" in program.refuses(3, "describe", "b.zip")[2]
    assert "8,000 columns" in program("describe", "b.zip", "--trust-inputs").out
    names = {f"v{n}": ("x", [1.0]) for n in range(10_001)} | {"grid": (("y", "x"), [[1.0], [2.0]])}
    xarray.Dataset(names).to_netcdf(program.folder / "n.nc", engine="scipy")
    assert "10,000 variables" in program.refuses(3, "describe", "n.nc")[0]
    assert "grid" in program("describe", "n.nc", "--trust-inputs").out


class Server(BaseHTTPRequestHandler):
    """Gives `files`; those under /plain only as a whole, those under /moving with another mark each time.

    busy.tif is given when the same is asked again.
    """

    files: dict[str, bytes]
    refused: set[tuple[str, str]]
    count = 0

    def do_GET(self) -> None:
        type(self).count += 1
        if self.path.startswith("/to/"):
            self.send_response(302)
            self.send_header(
                "Location", self.headers["Host"].join(("http://", "")) + self.path.removeprefix("/to")
            )
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        request = (self.path, self.headers.get("Range", ""))
        path = self.path.partition("?")[0].removeprefix("/plain").removeprefix("/moving")
        data = self.files.get(path)
        if self.path.endswith("/busy.tif") and request not in self.refused:  # whatever is asked first
            self.refused.add(request)
            self.send_error(503)
            return
        if data is None:
            self.send_error(404)
            return
        asked = re.match(r"bytes=(\d+)-(\d+)", self.headers.get("Range", ""))
        if asked and not self.path.startswith("/plain"):
            start, end = int(asked[1]), int(asked[2]) + 1
            self.send_response(206)
            self.send_header("Content-Range", f"bytes {start}-{min(end, len(data)) - 1}/{len(data)}")
            self.send_header("ETag", f'"{self.count if self.path.startswith("/moving") else 1}"')
            data = data[start:end]
            if self.path.endswith("/shifted.tif") and start:
                data = data[1:] + b"x"
                self._headers_buffer = [
                    h.replace(b"bytes %d" % start, b"bytes %d" % (start + 1)) for h in self._headers_buffer
                ]
        else:
            self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, *words: object) -> None: ...


@pytest.fixture
def site(program: Program, sheet: bytes) -> Iterator[str]:
    picture = save(program.folder / "w.png", raster(random_cells(20, 30))).read_bytes()
    files = {"/s.tif": sheet, "/busy.tif": sheet, "/w.png": picture, "/shifted.tif": sheet}
    handler = type("Site", (Server,), {"files": files, "refused": set()})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.handle_error = lambda *_: None  # type: ignore[method-assign]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def test_a_window_of_a_remote_geotiff_reads_only_what_it_needs(
    program: Program, sheet: bytes, site: str
) -> None:
    west, north = 730_000, 5_100_000
    within = f"{west + 3000},{north - 4000},{west + 4000},{north - 3000}"
    receipt = program("clip", f"{site}/s.tif", "--within", within, "--out", "w.tif", "--json").json
    assert receipt["web"]["size"] == len(sheet) and receipt["web"]["bytes"] < len(sheet) / 8
    assert receipt["web"]["requests"] < 12
    program("clip", "s.tif", "--within", within, "--out", "l.tif")
    there, here = (tifffile.imread(program.folder / name, key=0) for name in ("w.tif", "l.tif"))
    np.testing.assert_array_equal(there, here)
    assert "remote file" in program("clip", f"{site}/s.tif", "--within", within, "--out", "x.tif").err


@pytest.mark.parametrize("address", ["plain/s.tif", "busy.tif", "plain/busy.tif", "w.png"])
def test_servers_without_ranges_and_passing_faults_are_borne(
    program: Program, site: str, address: str
) -> None:
    program("convert", f"{site}/{address}", "--out", "r.tif")
    local = "w.png" if address == "w.png" else "s.tif"
    one, other = open_raster(program.folder / local), open_raster(program.folder / "r.tif")
    np.testing.assert_array_equal(one.cells(one.frame.pane).cells, other.cells(other.frame.pane).cells)


def test_remote_failures_have_their_own_exit_code(program: Program, site: str) -> None:
    assert "404" in program.refuses(6, "describe", f"{site}/none.tif")[1]
    assert program.refuses(6, "describe", "http://127.0.0.1:9/s.tif")
    assert "changed" in program.refuses(3, "convert", f"{site}/moving/s.tif", "--out", "m.tif")[0]
    assert "--offline" in program.refuses(4, "describe", f"{site}/s.tif", "--offline")[1]


def test_a_server_is_not_believed(program: Program, site: str) -> None:
    said = program.refuses(6, "convert", f"{site}/shifted.tif", "--out", "m.tif")
    assert "gives another part" in said[0]
    assert "leads from one place" in program("describe", f"{site}{'/to' * 9}/s.tif", code=6).err
    assert "is found at" in program("convert", f"{site}/to/s.tif", "--out", "t.tif").err


def test_credentials_and_keys_are_never_told(program: Program, site: str) -> None:
    secret = site.replace("http://", "http://anna:pass123@")
    for words in (("--out", "c.tif"), ("--out", "d.tif", "--json"), ("--out", "e.tif", "--verbose"),
                  ("--out", "f.tif", "--ceiling", "1kB")):  # fmt: skip
        said = program("convert", f"{secret}/s.tif?key=abc99", *words, code=None)
        assert said.code in (0, 4) and not re.search("pass123|anna|abc99", said.out + said.err), said


def test_another_package_adds_a_format(program: Program, tmp_path: Path) -> None:
    place = tmp_path / "packages"
    facts = place / "harbourgrid-1.0.dist-info"  # as an installer leaves it
    facts.mkdir(parents=True)
    project = tomllib.loads((PLUGIN / "pyproject.toml").read_text())["project"]
    (group, points) = next(iter(project["entry-points"].items()))
    lines = "".join(f"{name} = {value}\n" for name, value in points.items())
    (facts / "entry_points.txt").write_text(f"[{group}]\n{lines}")
    (facts / "METADATA").write_text(
        f"Metadata-Version: 2.1\nName: {project['name']}\nVersion: {project['version']}\n"
    )
    (place / "harbourgrid.py").write_bytes((PLUGIN / "harbourgrid.py").read_bytes())
    depths = random_cells(12, 15, kind="int16") % 400
    save(tmp_path / "d.tif", raster(depths, depths > -50, frame(15, 12), nodata=-1))
    there = {"PYTHONPATH": str(place)}
    assert "harbour soundings" in program.apart("formats", "harbour", **there).out
    program.apart("convert", "d.tif", "--out", "d.harbour", **there)
    assert "harbour soundings" in program.apart("describe", "d.harbour", **there).out
    program.apart("convert", "d.harbour", "--out", "back.tif", **there)
    one, other = open_raster(tmp_path / "d.tif"), open_raster(tmp_path / "back.tif")
    assert one.frame == other.frame
    np.testing.assert_array_equal(one.cells(one.frame.pane).values, other.cells(other.frame.pane).values)
    assert "of no format" in program.refuses(3, "describe", "d.harbour")[0]
