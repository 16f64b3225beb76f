"""The grammar of the command line, and what it refuses."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import pty
import struct
import subprocess
import sys
import termios
from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.cli.options import HELD
from zembrel.cli.style import WIDEST
from zembrel.verbtable import STEPS, VERBS


@pytest.fixture
def sheets(zembrel: Program) -> Program:
    """Three small sheets side by side: m2, m10 and m1."""
    for n, name in enumerate(("m2", "m10", "m1")):
        where = frame(40, 40, left=730_000 + 400 * n)
        save(zembrel.folder / "in" / f"{name}.tif", raster(random_cells(3, 40, 40, seed=n), where=where))
    return zembrel


@pytest.mark.parametrize(
    "words, remedy",
    [
        (["mosiac", "in"], "did you mean mosaic? (see zembrel --help)"),
        (["crop", "in"], "use zembrel clip"),
        (["slope", "in"], "use zembrel terrain INPUT --of slope --out PATH"),
        (["shadows", "in"], "use zembrel terrain INPUT --of hillshade --cast --out PATH"),
        (["clip", "in/m1.tif", "-oout.tif"], "write -o out.tif"),
        (["clip", "in/m1.tif", "-o=out.tif"], "write -o out.tif"),
        (["clip", "in/m1.tif", "--out", "a.tif", "-o", "b.tif"], "keep one of the two"),
        (["convert", "in/m1.tif", "--nodata", "-q", "--out", "a.tif"], "write --nodata VALUE"),
        (["convert", "in/m1.tif", "--out"], "write --out VALUE"),
        (["convert", "in/m1.tif"], "add --out PATH"),
        (["convert", "--out", "a.tif"], "name files, folders or patterns"),
        (["convert", "in/m1.tif", "--out", "a"], None),
        (["convert", "in", "--out", "a.tif"], "give a folder: --out a/"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--format", "geotif"], "did you mean geotiff?"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--type", "uint9"], "did you mean uint8?"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--compress", "deflat"], "did you mean deflate?"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--compress", "lzw:3"], "write --compress lzw"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--set", "tiel=64"], "did you mean tile?"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--set", "tile=100"], "write tile=512"),
        (["convert", "in/m1.tif", "--out", "a.tif", "--nodata", "300"], "choose one that fits"),
        (["mosaic", "in", "--out", "a.tif", "--overlap", "frist"], "did you mean first?"),
        (["reproject", "in/m1.tif", "--out", "a.tif", "--crs", "EPSG:32627", "--method", "cubik"], "did you mean cubic?"),
        (["resample", "in/m1.tif", "--out", "a.tif", "--cell", "2parsec"], None),
        (["resample", "in/m1.tif", "--out", "a.tif", "--cell", "1arcsec"], "use about 30.9m, or choose another CRS with --crs"),
        (["resample", "in/m1.tif", "--out", "a.tif"], "add --cell 10m, --longest 2000 or --onto FRAME"),
        (["clip", "in/m1.tif", "--out", "a.tif", "--onto", "in/m2.tif", "--cell", "2m"], "leave out --onto, or the others"),
        (["clip", "in/m1.tif", "--out", "a.tif", "--within", "1,2,3"], "write W,S,E,N"),
        (["clip", "in/m1.tif", "--out", "a.tif", "--fast"], None),
        (["frame", "--within", "1,2,3,4"], "add --within AREA --crs CRS"),
        (["formats", "geotif"], "did you mean geotiff?"),
    ],
)  # fmt: skip
def test_a_wrong_command_line_is_refused_in_three_lines(
    sheets: Program, words: list[str], remedy: str | None
) -> None:
    said = sheets.refuses(2, *words)
    assert remedy is None or said[2] == remedy


def test_inputs_keep_their_order_and_folders_their_natural_one(sheets: Program) -> None:
    def order(*words: str, stdin: str = "") -> list[str]:
        read = sheets("describe", *words, "--json", stdin=stdin).json["layers"]
        return [Path(layer["path"]).stem for layer in read]

    assert order("in") == order("in/*.tif") == ["m1", "m2", "m10"]
    assert order("in/m10.tif", "in/m1.tif") == ["m10", "m1"]
    assert order("in/m10.tif", "in") == ["m10", "m1", "m2"]
    assert order("--inputs-from", "-", stdin="in/m2.tif\n\nin/m1.tif\n") == ["m2", "m1"]
    (sheets.folder / "list.txt").write_text("in/m1.tif\n")
    assert order("--inputs-from", "list.txt") == ["m1"]


def test_the_output_folder_is_left_out_of_the_search(sheets: Program) -> None:
    for _ in range(2):
        said = sheets("convert", ".", "--out", "copies/", "--replace", "--json")
        assert len(said.json["inputs"]) == 3
    assert sorted(p.name for p in (sheets.folder / "copies").iterdir()) == ["m1.tif", "m10.tif", "m2.tif"]


def test_two_inputs_for_one_name_are_refused_before_anything_starts(sheets: Program) -> None:
    save(sheets.folder / "more" / "m1.tif", raster(random_cells(5, 5)))
    assert "m1.tif" in sheets.refuses(2, "convert", "in", "more", "--out", "copies/")[0]


def test_stdout_carries_only_what_was_asked_for(sheets: Program) -> None:
    quiet = sheets("convert", "in/m1.tif", "--out", "a.tif")
    assert quiet.out == "" and quiet.err.startswith("convert  in/m1.tif -> a.tif\n")
    assert sheets("convert", "in/m1.tif", "--out", "b.tif", "--quiet").err == ""
    told = sheets("convert", "in/m1.tif", "--out", "c.tif", "--json")
    assert told.err == "" and told.json["results"][0]["out"] == "c.tif"
    failed = sheets("convert", "in/m1.tif", "--out", "c.tif", "--json", code=4)
    assert (
        failed.err == "" and failed.json["exit"] == 4 and set(failed.json) == {"error", "why", "try", "exit"}
    )
    shown = sheets("frame", "in/m1.tif")
    assert shown.out.startswith("crs = ") and shown.err == ""


def test_text_from_files_is_never_taken_for_markup(zembrel: Program) -> None:
    name = "[bold]m[/bold]\x1b[31m.tif"
    save(zembrel.folder / name, raster(random_cells(5, 5)))
    said = zembrel("convert", name, "--out", "a.tif")
    assert "[bold]m[/bold]\\x1b[31m.tif" in said.err


def test_a_dry_run_shows_the_plan_and_writes_nothing(sheets: Program) -> None:
    before = sorted(sheets.folder.rglob("*"))
    for words in (
        ["mosaic", "in"],
        ["reproject", "in/m1.tif", "--crs", "EPSG:4326"],
        ["index", "in", "--out", "i.geojson"],
    ):
        out = [] if "--out" in words else ["--out", "a.tif"]
        assert "plan" in sheets(*words, *out, "--dry-run").err
    assert sorted(sheets.folder.rglob("*")) == before


def test_past_the_ceiling_the_refusal_prints_the_command_that_goes_on(sheets: Program) -> None:
    command = ["resample", "in/m1.tif", "--cell", "0.01m", "--out", "big.tif"]
    for ceiling in (["--ceiling", "1MB"], ["--ceiling=1MB"]):
        remedy = sheets.refuses(4, *command[:2], *ceiling, *command[2:])[2]
        assert remedy == "zembrel " + " ".join(command) + " --ceiling 7GB"


def test_results_are_replaced_only_when_asked(sheets: Program) -> None:
    sheets("convert", "in/m1.tif", "--out", "a.tif")
    assert sheets.refuses(4, "convert", "in/m2.tif", "--out", "a.tif")[0] == "a.tif exists"
    sheets("convert", "in/m2.tif", "--out", "a.tif", "--replace")


def test_with_keep_going_the_others_are_finished(sheets: Program) -> None:
    content = (sheets.folder / "in/m2.tif").read_bytes()
    (sheets.folder / "in/m2.tif").write_bytes(content[: len(content) // 2] + bytes(len(content) // 2))
    assert sheets("convert", "in", "--out", "c/", code=None).code == 3
    said = sheets("convert", "in", "--out", "c/", "--keep-going", "--replace", code=7)
    assert "lost" in said.err and "in/m2.tif" in said.err
    assert sorted(p.name for p in (sheets.folder / "c").iterdir()) == ["m1.tif", "m10.tif"]


def test_defaults_come_from_the_folders_settings(sheets: Program) -> None:
    settings = sheets.folder / "zembrel.toml"
    settings.write_text('compress = "lzw"\n\n[resample]\ncell = "20m"\nmethod = "nearest"\n')
    said = sheets("resample", "in/m1.tif", "--out", "a.tif")
    assert "lzw" in said.err and "20 m" in said.err and "method nearest" in said.err
    assert "by zembrel.toml --compress lzw, --cell 20m, --method nearest" in said.err
    assert "deflate" in sheets("resample", "in/m1.tif", "--out", "b.tif", "--compress", "deflate").err
    settings.write_text("round = true\n")
    assert "by zembrel.toml --round True" in sheets("convert", "in/m1.tif", "--out", "r.tif").err
    for text, hint in (
        ('compres = "lzw"\n', "did you mean compress?"),
        ("rounded = true\n", "did you mean round?"),
        ("[resampel]\ncell = 2\n", "did you mean resample?"),
        ('[resample]\nmetod = "mean"\n', "did you mean method?"),
        ('out = "a.tif"\n', None),
        ("replace = true\n", None),
        ('[mosaic]\ntable = "t.csv"\n[resample]\nindex = "i.gpkg"\n', None),
    ):
        settings.write_text(text)
        said3 = sheets.refuses(3, "resample", "in/m1.tif", "--cell", "20m", "--out", "c.tif")
        assert "zembrel.toml" in said3[0]
        assert hint is None or said3[2] == hint


def test_bands_are_picked_by_number_name_and_pattern(sheets: Program) -> None:
    def names(bands: str) -> list[str]:
        told = sheets("describe", "in/m1.tif", "--bands", bands, "--json").json
        return [band["name"] for band in told["layers"][0]["bands"]]

    assert names("3,1") == ["blue", "red"]
    assert names("green") == ["green"] and names("*r*") == ["red", "green"]
    assert "choose from 1 red" in sheets.refuses(3, "describe", "in/m1.tif", "--bands", "4")[2]


def test_every_verb_has_help_with_an_example_of_itself(zembrel: Program) -> None:
    for verb in VERBS:
        text = zembrel(*verb.split(), "--help").out
        assert f"zembrel {verb} " in text.split("Example:")[1]
        assert "<str>" not in text and "Options:" not in text, "values are called by what they are"


def test_help_groups_options_and_shows_those_that_the_verb_can_use(zembrel: Program) -> None:
    text = zembrel("clip", "--help", COLUMNS="200").out
    titles = ["This verb:", *(f"{title}:" for title in HELD)]
    places = [text.index(f"\n{title}\n") for title in titles]
    assert places == sorted(places)
    assert max(len(line) for line in text.splitlines()) <= WIDEST, "longer lines are hard to follow"
    assert max(len(line) for line in zembrel("clip", "--help", COLUMNS="80").out.splitlines()) <= 80
    for verb, flags in {
        "describe": ("--flatten", "--stored", "--keep-empty"), "contour": ("--flatten", "--compress"),
        "grid": ("--longest",), "draw": ("--longest", "--stored"), "thin": ("--keep-empty", "--onto"),
    }.items():  # fmt: skip
        shown = zembrel(verb, "--help").out
        assert not [flag for flag in flags if f" {flag} " in shown], verb
    own = zembrel("contour", "--help").out
    assert own.index("--classes N") < own.index("Inputs:"), "an option of this verb stands with it"


@pytest.mark.parametrize(
    "words, what, remedy",
    [
        (("convert", "m.tif", "--within", "1,2,3,4"), "convert has no option --within", "use zembrel clip"),
        (("fill", "m.tif", "--stat", "mean"), "fill has no option --stat", "use zembrel tally"),
        (("fill", "m.tif", "--reech", "3"), "there is no option --reech", "did you mean --reach?"),
    ],
)
def test_an_option_of_another_verb_is_answered_with_that_verb(
    zembrel: Program, words: tuple[str, ...], what: str, remedy: str
) -> None:
    said = zembrel.refuses(2, *words, "--out", "o.tif")
    assert (said[0], said[2]) == (what, remedy)


@pytest.mark.parametrize("verb", sorted({*VERBS} - {"demo", "warm", "standin serve", "coords"}))
def test_a_verb_without_a_word_says_what_it_needs(zembrel: Program, verb: str) -> None:
    said = zembrel(*verb.split(), code=None)
    assert said.code in (0, 2, 3) and (said.code == 0 or said.err.startswith("error: ")), said.err


@pytest.mark.parametrize("forbidden", [False, True])
def test_a_terminal_gets_colours_unless_it_forbids_them(zembrel: Program, forbidden: bool) -> None:
    """What a program says into a terminal of 80 columns: nothing else sees its colours."""
    save(zembrel.folder / "m.tif", raster(random_cells(8, 9)))
    shown = {}
    for words in (
        ["convert", "m.tif", "--out", "o.tif", "--replace"],
        ["fill", "--help"],
        ["convert", "no.tif", "--out", "p.tif"],
    ):
        here, there = pty.openpty()
        fcntl.ioctl(there, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        environment = os.environ | {"TERM": "xterm"} | ({"NO_COLOR": "1"} if forbidden else {})
        environment.pop("COLUMNS", None)
        done = subprocess.Popen([sys.executable, "-m", "zembrel", *words], cwd=zembrel.folder, env=environment,
                                stdin=there, stdout=there, stderr=there)  # fmt: skip
        os.close(there)
        text = b""
        with contextlib.suppress(OSError):  # the end of a terminal is an error to read
            while part := os.read(here, 4096):
                text += part
        done.wait()
        os.close(here)
        shown[words[-1]] = text.decode()
    painted = ("\x1b[32mwrote\x1b[0m", "\x1b[1mThis verb\x1b[0m:", "\x1b[31;1merror:\x1b[0m no.tif")
    for text, mark in zip((shown["--replace"], shown["--help"], shown["p.tif"]), painted, strict=True):
        assert (mark in text) != forbidden and ("\x1b[3" in text or "\x1b[1m" in text) != forbidden, text


def test_help_is_grouped_by_the_steps_of_the_work(zembrel: Program) -> None:
    text = zembrel("--help").out
    steps = list(STEPS)
    assert [text.index(step + ":") for step in steps] == sorted(text.index(step + ":") for step in steps)
    assert zembrel().out == text


def test_help_is_where_people_look_for_it(zembrel: Program) -> None:
    whole = zembrel("--help").out
    assert whole == zembrel("-h").out == zembrel("help").out == zembrel("help", "--help").out
    assert zembrel("--version").out == zembrel("-V").out != ""
    for verb in ("clip", "deliver pyramid", "standin serve", "run"):
        shown = zembrel(*verb.split(), "--help").out
        assert shown == zembrel(*verb.split(), "-h").out == zembrel("help", *verb.split()).out
        assert shown.startswith(f"Usage: zembrel {verb} ")
    for first in ("deliver", "standin"):
        shown = zembrel(first).out
        assert shown == zembrel(first, "--help").out == zembrel(first, "-h").out == zembrel("help", first).out
        listed = [line[2:] for line in shown.splitlines() if line.startswith(f"  {first} ")]
        assert listed == [
            f"{verb.ljust(max(map(len, listed_of(first))))}  {VERBS[verb].summary}"
            for verb in listed_of(first)
        ]
    assert "there is no verb 'clop'" in zembrel.refuses(2, "help", "clop")[0]
    assert "--within has no value" in zembrel.refuses(2, "clip", "--within", "-h")[0]


def listed_of(first: str) -> list[str]:
    return [verb for verb in VERBS if verb.split()[0] == first]


def test_help_imports_nothing_heavy() -> None:
    code = "import sys; sys.argv = ['zembrel', '--help']\ntry:\n from zembrel.cli import main; main()\nexcept SystemExit: pass\nprint(sorted(m for m in sys.modules if '.' not in m))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    loaded = set(json.loads(done.stdout.splitlines()[-1].replace("'", '"')))
    assert not loaded & {"numpy", "numba", "scipy", "matplotlib", "shapely", "imagecodecs", "PIL", "zlib_ng"}


def test_a_fault_of_ours_ends_in_70_with_a_report(zembrel: Program, tmp_path: Path) -> None:
    code = "import sys, zembrel.verbs.formats as f\ndef broken(): 1 / 0\nf.formats = broken\nsys.argv = ['zembrel', 'formats']\nfrom zembrel.cli import main; main()"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=tmp_path)
    assert done.returncode == 70 and "Traceback" not in done.stderr
    report = Path(done.stderr.splitlines()[-1].rpartition(" ")[2])
    assert "ZeroDivisionError" in report.read_text()
    report.unlink()


def test_a_reader_that_goes_away_is_no_error(sheets: Program) -> None:
    done = subprocess.run(
        f"{sys.executable} -m zembrel formats --json | head -1",
        shell=True,
        capture_output=True,
        text=True,
        cwd=sheets.folder,
    )
    assert done.stdout == "{\n" and done.stderr == ""


def test_cells_of_results_do_not_depend_on_workers_or_memory(sheets: Program) -> None:
    for n, words in enumerate((["--workers", "1"], ["--workers", "5"], ["--memory", "1MB"])):
        sheets("reproject", "in/m1.tif", "--crs", "EPSG:32627", "--out", f"{n}.tif", *words)
    one, two, three = ((sheets.folder / f"{n}.tif").read_bytes() for n in range(3))
    assert one == two == three
    assert np.frombuffer(one[:4], np.uint8).tolist() == [73, 73, 42, 0]


@pytest.mark.parametrize(
    "words, said",
    [
        (("crs", "find"), "crs find with 0 word(s)"),
        (("source", "add"), "source add"),
        (("standin", "device", "phone"), "standin device needs NAME PACK"),
        (("formats", "geotiff", "png"), "formats needs [NAME]"),
        (("run",), "run needs JOB"),
    ],
)
def test_arguments_that_are_missing_or_too_many_are_named(
    zembrel: Program, words: tuple[str, ...], said: str
) -> None:
    assert zembrel.refuses(2, *words)[0].strip() == said
