"""The program's own edges: streams that are closed or full, odd names, few handles, early signals."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest

import depth
from program import INSTALLED, Program
from rasters import frame, random_cells, raster, save
from sources.island import site

RUN = f"{sys.executable} -m zembrel"


@pytest.fixture
def sheet(zembrel: Program) -> Program:
    save(zembrel.folder / "a.tif", raster(random_cells(1, 40, 40), where=frame(40, 40)))
    return zembrel


def shell(program: Program, command: str, code: int, **environment: str) -> str:
    """What a shell says of a command; stdout and stderr together, without the program's own closing of them."""
    done = subprocess.run(
        ["/bin/sh", "-c", command.replace("zembrel", RUN)], cwd=program.folder, capture_output=True,
        env=os.environ | {"XDG_CONFIG_HOME": str(program.folder)} | environment, timeout=120, check=False,
    )  # fmt: skip
    said = (done.stdout + done.stderr).decode("utf-8", "surrogateescape")
    assert done.returncode == code and "Traceback" not in said, (done.returncode, said)
    return said


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no /dev/full here")
@pytest.mark.parametrize("stream", [">&-", "> /dev/full"])
@pytest.mark.parametrize("words", ["describe a.tif", "convert a.tif --out o.tif --json", "--help", "formats"])
def test_data_that_cannot_be_written_is_said(sheet: Program, words: str, stream: str) -> None:
    assert "standard output cannot be written" in shell(sheet, f"zembrel {words} {stream}", 5)


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no /dev/full here")
@pytest.mark.parametrize("stream", ["2>&-", "2> /dev/full", "2>&- >&- <&-"])
def test_messages_that_nobody_can_read_cost_nothing(sheet: Program, stream: str) -> None:
    shell(sheet, f"zembrel convert a.tif --out o.tif {stream}", 0)
    assert "40 columns x 40 rows" in sheet("describe", "o.tif").out


def test_names_that_are_no_text_are_names(sheet: Program) -> None:
    odd = os.fsdecode(b"\xff \x1b[31m.tif")
    (sheet.folder / odd).write_bytes((sheet.folder / "a.tif").read_bytes())
    said = shell(sheet, "zembrel describe *31m.tif; zembrel convert *31m.tif --out o.tif", 0)
    assert "\x1b" not in said and "\\x1b[31m.tif" in said
    assert "o.tif" in shell(sheet, "zembrel convert *31m.tif --out o.tif --replace --json", 0)


def test_few_handles_and_no_home_are_enough(sheet: Program) -> None:
    shell(sheet, "ulimit -n 64; zembrel convert a.tif --out o.tif", 0)
    shell(sheet, "unset HOME; zembrel convert a.tif --out p.tif", 0)


WRONG_CLOCK = """
import time
real = time.localtime
time.time, time.time_ns = (lambda: 1000.0), (lambda: 10**12)
time.localtime = lambda seconds=1000.0: real(seconds)
from zembrel.cli import main
main()
"""


EARLY = [
    "convert a.tif --out o.zarr.zip", "contour a.tif --interval 100 --out o.kmz", "convert p.csv --from-crs EPSG:32626 --out o.laz",
    "convert a.tif --out o.npz", "convert a.tif --out o.nc", "contour a.tif --interval 100 --out o.gpkg",
]  # fmt: skip


@pytest.mark.parametrize("words", depth.some(EARLY, EARLY[:2]))
def test_a_clock_that_stands_before_1980_is_enough(sheet: Program, words: str) -> None:
    (sheet.folder / "p.csv").write_text("x,y,z\n730000,5100000,1\n730001.3,5100007,2\n730002,5100001.1,4\n")
    done = subprocess.run(
        [sys.executable, "-c", WRONG_CLOCK, *words.split()], cwd=sheet.folder, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    sheet("describe", words.rpartition(" ")[2])


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_is_answered_whenever_it_comes(sheet: Program, number: signal.Signals) -> None:
    code = "import sys; from zembrel.cli import main; print('up', flush=True); main()"
    for delay in (0.02, 0.05, 0.1, 0.2, 0.4):
        process = subprocess.Popen(
            [sys.executable, "-c", code, "reproject", "a.tif", "--crs", "EPSG:3857", "--cell", "0.05m", "--out", "o.tif"],
            cwd=sheet.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )  # fmt: skip
        assert process.stdout is not None and process.stdout.readline()
        time.sleep(delay)
        process.send_signal(number)
        said = process.communicate(timeout=60)[1]
        assert process.returncode in (-number, 128 + number) and "Traceback" not in said, (delay, said)
        assert {path.name for path in sheet.folder.iterdir()} == {"a.tif"}


LOST = """
import os, signal, sys, time, weakref
from zembrel.cli import signals
signals.unwind()
class Thing: ...
def gone(_):
    os.kill(os.getpid(), int(sys.argv[1]))
    time.sleep(0.01)
thing = Thing()
watch = weakref.ref(thing, gone)
try:
    del thing  # what is raised while an object is removed is ignored by Python
    time.sleep(30)
except BaseException as exc:
    print(type(exc).__name__)
"""


@pytest.mark.parametrize(
    ("number", "name"), [(signal.SIGINT, "KeyboardInterrupt"), (signal.SIGTERM, "Terminated")]
)
def test_a_signal_that_comes_while_an_object_is_removed_is_not_lost(number: int, name: str) -> None:
    words = [sys.executable, "-c", LOST, str(int(number))]
    done = subprocess.run(words, capture_output=True, text=True, timeout=20)
    assert (done.stdout, done.stderr) == (name + "\n", "")


def test_a_server_in_a_thread_of_a_program_in_the_background_answers() -> None:
    """Whoever ignores interrupts may have a server that is not in the main thread."""
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        with site() as found, urllib.request.urlopen(f"{found.address}/faults", timeout=10) as answer:
            assert answer.status == 200
    finally:
        signal.signal(signal.SIGINT, before)


def test_a_server_in_the_background_outlives_the_interrupts_of_its_terminal(marrowick: Path) -> None:
    words = [INSTALLED, "standin", "serve", str(marrowick), "--port", "0"]
    process = subprocess.Popen(
        words,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_IGN),
    )
    assert process.stderr is not None and process.stderr.readline()
    time.sleep(1)
    process.send_signal(signal.SIGINT)
    with pytest.raises(subprocess.TimeoutExpired):
        process.wait(1)
    process.terminate()
    said = process.communicate(timeout=20)[1]
    assert (process.returncode, said.splitlines()[-1]) == (143, "terminated; nothing half-written remains")


@pytest.mark.parametrize("words", [("convert", "a.tif", "--out", "b\0.tif"), ("describe", "a\0.tif")])
def test_a_word_with_a_nul_is_told(sheet: Program, words: tuple[str, ...]) -> None:
    assert "holds a NUL" in sheet.refuses(2, *words)[0]


def test_a_terminal_of_ascii_alone_gets_everything_in_escapes(sheet: Program) -> None:
    shutil.copy(sheet.folder / "a.tif", sheet.folder / "gr\u00fcn.tif")
    plain = {"PYTHONIOENCODING": "ascii"}
    assert "gr\\xfcn.tif" in sheet.apart("describe", "gr\u00fcn.tif", **plain).out
    assert "gr\\xfcn.tif" in sheet.apart("convert", "a.tif", "--out", "\u00f6/gr\u00fcn.tif", **plain).err
    assert "n\\xf6.tif" in sheet.apart("describe", "n\u00f6.tif", code=3, **plain).err


@pytest.mark.parametrize("name", ["cost $\\frac{$ and $x", "$\\nope{$", "$a$"])
def test_text_of_users_is_never_a_formula(sheet: Program, name: str) -> None:
    point = {
        "type": "Feature",
        "properties": {"name": name, "kind": name},
        "geometry": {"type": "Point", "coordinates": [-24, 46]},
    }
    (sheet.folder / "m.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [point]}))
    sheet("deliver", "globe", "a.tif", "m.geojson", "--field", "kind", "--title", name, "--out", "g.kmz")
    sheet("draw", "m.geojson", "--field", "kind", "--out", "d.png")
    sheet("draw", "a.tif", "--title", name, "--out", "t.svg")


def test_a_page_inside_the_pack_that_it_shows_is_refused_at_once(sheet: Program) -> None:
    said = sheet.refuses(2, "deliver", "pyramid", "a.tif", "--viewer", "o/p/map.html", "--out", "o/p/")
    assert "lies in --out" in said[0] and not (sheet.folder / "o").exists()


def test_a_moment_that_is_none_is_told_by_every_verb(sheet: Program) -> None:
    for words in (("deliver", "chart", "a.tif", "--out", "c.kap"), ("describe", "a.tif")):
        assert "SOURCE_DATE_EPOCH is 'soon'" in sheet.apart(*words, code=2, SOURCE_DATE_EPOCH="soon").err
