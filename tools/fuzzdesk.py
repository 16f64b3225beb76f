"""What `fuzz` damages beside layers: packs, job files and their states, source files, and answers of services.

A server of this process gives away the answers that lie in the folder `answers`, whatever was made of them.
"""

from __future__ import annotations

import os
import re
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx

from zembrel.demo import island as shape
from zembrel.standins.services.app import Island
from zembrel.standins.services.faults import Faults
from zembrel.standins.services.serving import served
from zembrel.verbs.serve import scene

Entry = tuple[str, str, tuple[tuple[str, ...], ...]]
AREA = ("--within", "-24.001,45.9995,-23.9995,46.0005@EPSG:4326")
JOB = """title = "Two steps"
[set]
cell = "9m"
[matrix]
of = ["slope", "aspect"]
[[step]]
id = "half"
verb = "resample"
inputs = "r.tif"
cell = "$cell"
out = "half.tif"
[[step]]
id = "terrain"
verb = "terrain"
inputs = "@half"
of = "$of"
z-unit = "m"
when-empty = "skip"
out = "${of}.tif"
"""
# kind of a service, where it is, settings of its source file, and the answers that are damaged
SERVICES = (
    ("wmts", "/wmts", ("layer=ortho",), ("/wmts?service=WMTS&request=GetCapabilities",)),
    ("wms", "/wms", ("layer=ortho",), ("/wms?service=WMS&request=GetCapabilities",)),
    ("wcs", "/wcs", ("layer=heights", "holds=heights"), ("/wcs?service=WCS&request=GetCapabilities",)),
    ("tiles", "/ogc", ("layer=ortho",), ("/ogc/collections", "/ogc/collections/ortho/map/tiles")),
    ("coverages", "/ogc", ("layer=heights", "holds=heights"), ("/ogc/collections",)),
    ("stac", "/stac", (), ("/stac", "/stac/search")),
    ("blocks", "/blocks/index.geojson", (), ("/blocks/index.geojson",)),
    ("gazetteer", "/places?q={name}", (), ("/places?q=Marrow",)),
)


def made(folder: Path, guarded: Callable[[list[str]], int]) -> Iterator[Entry]:
    """Sound files in `folder`, and the runs that read each. The server runs until this process ends."""
    yield from _packs(guarded)
    yield from _jobs(folder, guarded)
    yield from _sources(folder, guarded)


def _run(guarded: Callable[[list[str]], int], *words: str) -> None:
    if guarded([*words, "-q", "--replace"]):
        print(f"no seed: {' '.join(words)}")


def _packs(guarded: Callable[[list[str]], int]) -> Iterator[Entry]:
    for name in ("p.mbtiles", "p.pmtiles", "p.zip", "p.gpkg"):
        _run(guarded, "deliver", "pyramid", "r.tif", "--zooms", "14-16", "--limits", "0,250", "--out", name)
        judges = [("standin", "device", "phone", name)] if name[2:] in ("mbtiles", "pmtiles") else []
        judges += [("standin", "device", "controller", name)] if name == "p.zip" else []
        carry = ("deliver", "carry", name, "--carry-to", ".", "--device", "phone", "--replace")
        looks = (carry, ("describe", name, "--history"), ("convert", name, "--out", "o.tif", "--replace"))
        yield name, name, (*judges * 2, *looks)
    _run(guarded, "deliver", "globe", "r.tif", "f.geojson", "--limits", "0,250", "--out", "g.kmz")
    yield "g.kmz", "g.kmz", (("standin", "device", "phone", "g.kmz"), ("describe", "g.kmz"))
    _run(guarded, "deliver", "heightmap", "r.tif", "--size", "33", "--out", "terrain/")
    yield "terrain", "terrain/terrain.toml", (("standin", "device", "engine", "terrain"),)


def _jobs(folder: Path, guarded: Callable[[list[str]], int]) -> Iterator[Entry]:
    (folder / "j.job.toml").write_text(JOB)
    runs = (("run", "j.job.toml", "--dry-run"), ("run", "j.job.toml", "--replace"))
    _run(guarded, "run", "j.job.toml")
    yield "j.job.toml", "j.job.toml", runs
    yield (
        "j.job.toml",
        "j.state.sqlite",
        (*runs, ("run", "j.job.toml", "--clean"), ("receipt", "j.job.toml", "--out", "j.html", "--replace")),
    )


def _sources(folder: Path, guarded: Callable[[list[str]], int]) -> Iterator[Entry]:
    os.environ["ZEMBREL_CACHE"] = str(folder / "cache")
    address = _served(folder)
    for kind, path, settings, answers in SERVICES:
        words = [word for setting in ("private=true", "age=0", *settings) for word in ("--set", setting)]
        _run(guarded, "source", "add", kind, address + path, "--kind", kind, *words)
        use = [("source", "test", kind)]
        use += [
            (
                "fetch",
                kind,
                *AREA,
                "--cell",
                "9m",
                "--crs",
                "EPSG:32626",
                "--out",
                "o.tif",
                *("--replace", "--yes"),
            )
        ]
        use = [("coords", "Marrow", "--places", kind)] if kind == "gazetteer" else use
        yield kind, f"sources/{kind}.source.toml", (("source", "show", kind), *use)
        for answer in answers:
            name = _name(answer)
            if not (folder / "answers" / name).exists():
                httpx.get(address + answer, trust_env=False)
            if (folder / "answers" / name).exists():
                yield kind, f"answers/{name}", tuple(use)
            else:
                print(f"no seed: {answer} of {kind}")


def _name(target: str) -> str:
    """The file of an answer: by its path, and what is requested there."""
    parts = urlsplit(target)
    asked = re.search(r"request=(\w+)", parts.query, re.IGNORECASE)
    return re.sub(r"\W+", "-", parts.path.strip("/")) + (f".{asked[1].lower()}" if asked else "")


def _served(folder: Path) -> str:
    """The address of a server that gives away what is in `answers`, and asks the island for anything else.

    It is a process of its own, which ends with this one.
    """
    (folder / "answers").mkdir(exist_ok=True)
    parent, (begin, end) = os.getpid(), os.pipe()
    if not os.fork():
        try:
            _serve(folder, parent, end)
        finally:
            os._exit(1)
    os.close(end)
    return f"http://127.0.0.1:{int(os.read(begin, 20))}"


def _serve(folder: Path, parent: int, told: int) -> None:
    with served(_island()) as island:

        class Answering(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                kept = folder / "answers" / _name(self.path)
                host = {"host": self.headers["Host"]}
                answer = httpx.get(island + self.path, headers=host, trust_env=False)
                data, kind = answer.content, answer.headers.get("content-type", "application/octet-stream")
                if "xml" in kind or "json" in kind:
                    if not kept.exists():
                        kept.write_bytes(data)
                    data = kept.read_bytes()
                self.send_response(200)
                self.send_header("Content-Type", kind)
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_: Any) -> None: ...

        server = ThreadingHTTPServer(("127.0.0.1", 0), Answering)
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        os.write(told, str(server.server_port).encode())
        while os.getppid() == parent:
            time.sleep(0.5)


def _island() -> Island:
    east, north = shape.MIDDLE
    home = (east - 5_000, north - 5_000, east + 5_000, north + 5_000)
    return Island(
        scene, (-24.1, 45.9, -23.9, 46.1), home, [], [], [("High Marrow", -24.0, 46.0)], 0.0, Faults()
    )
