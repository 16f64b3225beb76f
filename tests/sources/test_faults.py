"""Servers that fail, lie or do harm, and what is kept of them."""

from __future__ import annotations

import math
import os
import re
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import zlib
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import imagecodecs
import numpy as np
import pytest
import tifffile

from program import Program
from sources.island import BOUNDS, SPOT, Site
from zembrel.verbs import fetching
from zembrel.web.asking import Asker, Manner, Request

AREA = ",".join(map(str, BOUNDS)) + "@EPSG:4326"
TILES = "/xyz/{version}/ortho/{z}/{x}/{y}.png"
PHOTO = {"version": "912", "zooms": "0-15", "parallel": 8}
FETCH = ("fetch", "s", "--within", AREA, "--out")


def lost_of(said: dict) -> list[str]:
    return [loss["input"] for loss in said["lost"]]


def test_failing_and_slow_servers_cost_time_and_a_dead_tile_is_named_and_void(
    program: Program, island: Site
) -> None:
    island.add(program, "s", TILES, "xyz", **PHOTO)
    row = math.floor((1 - math.asinh(math.tan(math.radians(SPOT[1]))) / math.pi) / 2 * 2**15)
    column = math.floor((SPOT[0] + 180) / 360 * 2**15)
    vars(island.faults).update(fail=0.2, slow=0.1, seconds=0.3, dead=f"/15/{column}/{row}.")
    said = program(*FETCH, "o.tif", "--json", code=7).json
    assert lost_of(said) == [f"{island.address}/xyz/912/ortho/15/{column}/{row}.png"]
    asked = next(chose for chose in said["chose"] if chose["fact"] == "pieces_asked")["pieces"]
    assert asked > 100
    frame = said["frame"]
    assert said["results"][0]["valid"] == frame["columns"] * frame["rows"] - 256**2
    island.calm()
    before = island.faults.asked
    again = program(*FETCH, "o.tif", "--replace", "--json").json
    assert island.faults.asked - before == 1 and not again["lost"]
    assert again["results"][0]["valid"] == frame["columns"] * frame["rows"]


def test_a_run_that_is_killed_asks_for_the_rest_alone(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "parallel": 2})
    vars(island.faults).update(slow=1.0, seconds=0.05)
    run = subprocess.Popen([sys.executable, "-m", "zembrel", *FETCH, "o.tif"], cwd=program.folder, stderr=subprocess.DEVNULL,
                           env=os.environ | {"XDG_CONFIG_HOME": str(program.folder)})  # fmt: skip
    before = island.faults.asked
    until = time.monotonic() + 60
    while island.faults.asked - before < 30 and time.monotonic() < until:
        time.sleep(0.01)
    run.send_signal(signal.SIGKILL)
    run.wait()
    assert not (program.folder / "o.tif").exists()
    island.calm()
    came = island.faults.asked - before
    said = program(*FETCH, "o.tif", "--json").json
    chose = next(chose for chose in said["chose"] if chose["fact"] == "pieces_asked")
    assert 30 - 4 <= chose["kept"] <= came and said["web"]["requests"] == chose["pieces"]
    whole = program(*FETCH, "p.tif", "--json").json
    assert whole["checks"][0]["fact"] == "all_valid" and "web" not in whole


@pytest.mark.parametrize(("fault", "words"), [({"garbage": 1.0}, "We are moving house"), ({"cut": 1.0}, "cannot be read"),
                                              ({"fail": 1.0}, "503"), ({"version": "913"}, "zembrel source test s")])  # fmt: skip
def test_what_is_no_tile_is_none(
    program: Program, island: Site, fault: dict[str, object], words: str
) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-11", "tries": 2})
    vars(island.faults).update(fault)
    said = program(*FETCH, "o.tif", code=None)
    assert said.code in (4, 6) and (words in said.err or said.code == 4)
    assert not (program.folder / "o.tif").exists()


def test_another_version_is_a_variable_and_asks_anew(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-12"})
    program(*FETCH, "o.tif")
    vars(island.faults).update(version="913")
    program("source", "set", "s", "version=913")
    said = program(*FETCH, "p.tif", "--json").json
    assert said["web"]["requests"] >= 4
    np.testing.assert_array_equal(
        tifffile.imread(program.folder / "o.tif"), tifffile.imread(program.folder / "p.tif")
    )


def test_very_many_pieces_need_a_word_and_a_stopped_run_ends_soon(
    program: Program, island: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(fetching, "_MANY", 200)
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-16"})
    error = program.refuses(4, *FETCH, "o.tif")
    assert "pieces of about" in error[0] and error[2].endswith("--yes")
    vars(island.faults).update(fail=1.0)
    run = subprocess.Popen([sys.executable, "-m", "zembrel", *FETCH, "o.tif", "--yes"], cwd=program.folder, stderr=subprocess.DEVNULL,
                           env=os.environ | {"XDG_CONFIG_HOME": str(program.folder)})  # fmt: skip
    before = island.faults.asked
    until = time.monotonic() + 60
    while island.faults.asked - before < 10 and time.monotonic() < until:
        time.sleep(0.01)
    run.send_signal(signal.SIGINT)
    began = time.monotonic()
    assert run.wait() == 130 and time.monotonic() - began < 4
    assert not (program.folder / "o.tif").exists()


def test_answers_that_nobody_waits_for_do_not_stop_others(island: Site) -> None:
    """A row of requests is given up while its threads are busy; a request beside it goes on."""
    asker, hold, begun = Asker(Manner(private=True)), threading.Event(), threading.Event()

    def busy(number: int) -> int:
        if number:
            begun.set()
            assert hold.wait(20)
        return number

    row = asker.each([0, 1, 2], busy)
    assert next(row) == (0, 0) and begun.wait(20)
    ending = threading.Thread(target=row.close)
    ending.start()
    time.sleep(0.2)  # the row is given up by now, and waits for its threads
    try:
        assert asker.ask(Request.of(f"{island.address}/faults")).status == 200
    finally:
        hold.set()
        ending.join()


def test_far_too_much_of_a_source_is_refused_before_pieces_are_listed(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "19-19"})
    began = time.monotonic()
    spot = f"circle:{SPOT[0]},{SPOT[1]},1.5km@EPSG:4326"
    fine = ("fetch", "s", "--within", spot, "--crs", "EPSG:32626", "--cell", "0.01m", "--out", "o.tif")
    for words in ((), ("--dry-run",)):
        assert "pass the ceiling" in program.refuses(4, *fine, *words)[1]
    world = ("fetch", "s", "--within", "-179,-80,179,80@EPSG:4326", "--cell", "0.5", "--crs", "EPSG:4326")
    assert "1,000,000 are fetched at most" in program.refuses(4, *world, "--dry-run", "--out", "o.tif")[1]
    assert time.monotonic() - began < 20


def test_as_many_pieces_are_counted_for_finer_cells_of_the_same_ground(
    program: Program, island: Site
) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "14-14"})
    spot = ("fetch", "s", "--within", f"circle:{SPOT[0]},{SPOT[1]},2km@EPSG:4326", "--crs", "EPSG:32626")
    counts = []
    for cell in ("8m", "1m", "0.1m"):
        said = program(*spot, "--cell", cell, "--dry-run", "--out", "o.tif", "--json").json
        asked = next(fact for fact in said["chose"] if "pieces" in fact)
        counts.append(asked["pieces"] + asked["kept"])  # the first run asked for a few to know their size
    assert counts[0] == counts[1] == counts[2] > 4


def test_a_server_that_wants_to_be_left_alone_is(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-11", "tries": 2})
    vars(island.faults).update(fail=1.0, leave_alone=1.5)
    began = time.monotonic()
    program(*FETCH, "o.tif", code=6)
    assert time.monotonic() - began > 1.4


@pytest.mark.parametrize("harm", ["cells", "bytes"])
def test_a_wrong_tile_that_is_kept_is_dropped(program: Program, island: Site, harm: str) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-13"})
    program(*FETCH, "o.tif")
    base = sqlite3.connect(Path(os.environ["ZEMBREL_CACHE"]) / "kept.sqlite")
    odd = bytes(imagecodecs.png_encode(np.zeros((64, 64, 3), np.uint8)))
    digest = zlib.crc32(odd).to_bytes(4, "big")
    base.execute(
        "update kept set data=?" + (", digest=?" if harm == "cells" else ""),
        (odd, digest)[: 2 if harm == "cells" else 1],
    )
    base.commit()
    base.close()
    said = program.apart(*FETCH, "p.tif", "--json").json
    assert said["web"]["requests"] > 4
    np.testing.assert_array_equal(
        tifffile.imread(program.folder / "o.tif"), tifffile.imread(program.folder / "p.tif")
    )


def test_what_is_kept_is_shared_bounded_and_cleared(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-14"})
    runs = [subprocess.Popen([sys.executable, "-m", "zembrel", *FETCH, f"{n}.tif"], cwd=program.folder, stderr=subprocess.PIPE,
                             env=os.environ | {"XDG_CONFIG_HOME": str(program.folder)}) for n in range(3)]  # fmt: skip
    assert [run.wait() for run in runs] == [0, 0, 0], [run.stderr.read() for run in runs if run.stderr]
    one = (program.folder / "0.tif").read_bytes()
    assert all((program.folder / f"{n}.tif").read_bytes() == one for n in (1, 2))
    (share,) = program("source", "cache", "show", "--json").json["kept"]
    assert share["entries"] > 20 and share["bytes"] > 10_000
    program("fetch", "s", "--within", AREA, "--offline", "--out", "off.tif")
    program("source", "cache", "clear", "s")
    assert program("source", "cache", "show", "--json").json["kept"] == []
    assert (
        "never fetched"
        in program.refuses(4, "fetch", "s", "--within", AREA, "--offline", "--out", "x.tif")[0]
    )
    assert "did you mean" in program.refuses(3, "fetch", "st", "--within", AREA, "--out", "x.tif")[2]


def test_more_than_the_cache_may_hold_pushes_out_what_was_not_used(tmp_path: Path) -> None:
    from zembrel.web.cache import Kept, WebCache

    cache = WebCache(tmp_path, most=1_000_000)
    for n in range(40):
        cache.put("s", str(n), Kept(time.time(), 200, "", None, bytes(100_000)))
    (share,) = cache.shares()
    assert share.bytes <= 1_000_000 and cache.get("s", "39") is not None and cache.get("s", "0") is None


def test_an_old_answer_is_asked_for_again_and_stays_if_it_did_not_change(
    program: Program, island: Site
) -> None:
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": "0-12", "age": "1s"})
    program(*FETCH, "o.tif")
    time.sleep(1.1)
    said = program(*FETCH, "p.tif", "--json").json
    assert said["web"]["requests"] >= 4


class Liar(BaseHTTPRequestHandler):
    """Answers by its path."""

    seen: ClassVar[list[dict[str, str]]] = []

    def do_GET(self) -> None:
        type(self).seen.append(dict(self.headers))
        kind = self.path.partition("?")[0].lstrip("/").partition("/")[0]
        here = f"http://{self.headers['Host']}"
        if kind == "round":
            return self._say(302, b"", Location=f"{here}{self.path}x")
        if kind == "inside":
            return self._say(302, b"", Location="http://169.254.169.254/latest")
        if kind == "elsewhere":
            return self._say(302, b"", Location="http://192.0.2.7/t.png")
        if kind == "file":
            return self._say(302, b"", Location="file:///etc/passwd")
        if kind == "laughs":
            names = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10 if n else "ha"}">' for n in range(9))
            return self._say(
                200,
                f"<!DOCTYPE c [{names}]><WMS_Capabilities>&l8;</WMS_Capabilities>".encode(),
                type="text/xml",
            )
        if kind == "outside":
            return self._say(
                200,
                b'<!DOCTYPE c [<!ENTITY x SYSTEM "file:///etc/passwd">]><WMS_Capabilities>&x;</WMS_Capabilities>',
                type="text/xml",
            )
        if kind == "refusal":
            text = b'<ServiceExceptionReport><ServiceException code="Busy">come back on Monday</ServiceException></ServiceExceptionReport>'
            return self._say(200, text, type="text/xml")
        if kind == "page":
            return self._say(
                200, b"<!DOCTYPE html><html><body><p>Please log in</p></body></html>", type="text/html"
            )
        if kind == "endless":
            self.send_response(200)
            self.end_headers()
            try:
                while True:
                    self.wfile.write(b"\0" * 65_536)
            except OSError:
                return None
        side = 128 if kind == "small" else 256
        picture = bytes(imagecodecs.png_encode(np.full((side, side, 3), 99, np.uint8)))
        return self._say(200, picture, type="image/png")

    def _say(self, status: int, data: bytes, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header({"type": "Content-Type"}.get(name, name), value)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, *words: object) -> None: ...


@pytest.fixture
def liar() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Liar)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


@pytest.mark.parametrize(
    ("path", "kind", "words"),
    [
        ("/round/{z}/{x}/{y}", "xyz", "leads from one place to the next"),
        ("/inside/{z}/{x}/{y}", "xyz", "does not name that host"),
        ("/elsewhere/{z}/{x}/{y}", "xyz", "does not name that host"),
        ("/file/{z}/{x}/{y}", "xyz", "no place on the web"),
        ("/small/{z}/{x}/{y}", "xyz", "128 x 128 cells"),
        ("/page/{z}/{x}/{y}", "xyz", "Please log in"),
        ("/endless/{z}/{x}/{y}", "xyz", "does not stop"),
        ("/laughs", "wms", "defines entities"),
        ("/outside", "wms", "defines entities"),
        ("/refusal", "wms", "come back on Monday"),
        ("/page", "wms", "Please log in"),
        ("/page", "wmts", "Please log in"),
        ("/page", "wcs", "no <Capabilities>: Please log in"),
        ("/page", "stac", "no JSON"),
        ("/page", "tiles", "no JSON"),
    ],
)
def test_lies_are_told_as_such(program: Program, liar: str, path: str, kind: str, words: str) -> None:
    program("source", "add", "s", liar + path, "--kind", kind, "--set", "private=true", "--set", "most=1MB", "--set", "tries=1",
            "--set", "zooms=0-9", "--set", "layer=a")  # fmt: skip
    error = program.refuses(
        6, "fetch", "s", "--within", AREA, "--cell", "0.01", "--crs", "EPSG:4326", "--out", "o.tif"
    )
    assert words in " ".join(error)


def test_private_machines_are_asked_only_where_the_source_says_so(program: Program, liar: str) -> None:
    program("source", "add", "s", liar + "/t/{z}/{x}/{y}", "--kind", "xyz", "--set", "zooms=0-9")
    Liar.seen.clear()
    assert "private = true" in program.refuses(6, *FETCH, "o.tif")[2]
    assert not Liar.seen


def test_keys_come_from_the_environment_and_are_told_nowhere(
    program: Program, liar: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("MARROW_KEY", "s3cret-77")
    words = ("--kind", "xyz", "--set", "private=true", "--set", "zooms=0-9", "--set", "key=$MARROW_KEY")
    program(
        "source",
        "add",
        "s",
        liar + "/t/{z}/{x}/{y}?key={key}",
        *words,
        "--set",
        "headers.X-Api-Key=$MARROW_KEY",
    )
    Liar.seen.clear()
    said = [program(*FETCH, "o.tif", "--json"), program(*FETCH, "p.tif", "--verbose"), program("source", "show", "s"),
            program("source", "list", "--json"), program("source", "test", "s")]  # fmt: skip
    assert all(one["X-Api-Key"] == "s3cret-77" for one in Liar.seen) and Liar.seen
    kept = b"".join(
        path.read_bytes() for path in Path(os.environ["ZEMBREL_CACHE"]).rglob("*") if path.is_file()
    )
    files = b"".join(path.read_bytes() for path in program.folder.rglob("*") if path.is_file())
    assert (
        not re.search("s3cret", "".join(one.out + one.err for one in said)) and b"s3cret" not in kept + files
    )
    program("source", "add", "e", liar + "/page/{z}/{x}/{y}?key={key}", *words)
    assert "s3cret" not in program("fetch", "e", "--within", AREA, "--out", "q.tif", code=6).err
    program("source", "add", "a", liar + "/{key}/page", "--kind", "tiles", "--set", "layer=a", *words[2:])
    said_too = program("fetch", "a", "--within", AREA, "--out", "q.tif", code=6).err
    assert "$MARROW_KEY/page" in said_too and "s3cret" not in said_too
    monkeypatch.delenv("MARROW_KEY")
    remedy = program.refuses(2, "fetch", "s", "--within", AREA, "--zoom", "9", "--out", "r.tif", "--replace")[
        2
    ]
    assert "export MARROW_KEY" in remedy
    text = 'kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}"\n[headers]\nAuthorization = "Bearer 123"\n'
    (program.folder / "k.source.toml").write_text(text)
    assert "keys do not belong into files" in program.refuses(3, "source", "show", "k")[1]


def test_slips_are_refused_before_anything_is_written_or_asked_for(program: Program, island: Site) -> None:
    for words in (("http://a.example/{z}/{x}", "--kind", "xyz"), ("http://a.example/{z}/{x}/{y}", "--kind", "xzy"),
                  ("ftp://a.example", "--kind", "wms")):  # fmt: skip
        error = program.refuses(3, "source", "add", "s", *words)
        assert error[0].startswith("sources/s.source.toml: ")
    island.add(program, "s", TILES, "xyz", **PHOTO)
    before = island.faults.asked
    assert "--out" in program.refuses(2, "fetch", "s", "--within", AREA)[2]
    assert ".tiff9" in program.refuses(2, "fetch", "s", "--within", AREA, "--out", "o.tiff9")[1]
    assert island.faults.asked == before


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('kind = "xzy"\naddress = "http://a.example/{z}/{x}/{y}"', "did you mean xyz?"),
        ('kind = "xyz"\nadress = "x"\naddress = "x"', "did you mean address?"),
        ('kind = "xyz"', "address is missing"),
        ('kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}/{ver}"', "no variable of it"),
        ('kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}"\nzooms = "9-3"', "zooms = '9-3'"),
        ('kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}"\nbounds = [1, 2, 3]', "bounds"),
        ('kind = "xyz"\naddress = "http://a.example/{x}/{y}"', "has no {z}"),
        ('kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}"\nparallel = 0', "parallel = 0"),
        ('kind = "xyz"\naddress = "http://a.example/{z}/{x}/{y}"\nholds = "hights"', "did you mean heights?"),
        ('kind = "xyz"\naddress = "ftp://a.example/{z}/{x}/{y}"', "only http and https"),
    ],
)  # fmt: skip
def test_slips_in_a_source_file_are_named(program: Program, text: str, words: str) -> None:
    (program.folder / "s.source.toml").write_text(text + "\n")
    said = program("fetch", "s", "--within", AREA, "--out", "o.tif", code=None)
    assert said.code in (2, 3, 6) and words in said.err, said.err
