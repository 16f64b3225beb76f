"""Each kind of mistake in a job file is told with its line, and with what would be right."""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.errors import ZembrelError
from zembrel.jobs.jobfile import read_job
from zembrel.verbs.run import TABLE

CLIP = '[[step]]\nid = "land"\nverb = "clip"\ninputs = "a.tif"\nwithin = "730100,5099600,730200,5099700"\nout = "land.tif"\n'
# what is written, the line that is named, a word of what is wrong, and one of what would be right
MISTAKES: list[tuple[str, str, int, str, str]] = [
    ("no TOML", "title = \n" + CLIP, 1, "not TOML", "mend that line"),
    ("no step", 'title = "x"\n', 0, "there is no step", "[[step]]"),
    ("unknown key", 'titel = "x"\n' + CLIP, 1, "unknown key 'titel'", "did you mean title?"),
    ("title is no text", "title = 5\n" + CLIP, 1, "title is no text", 'title = "..."'),
    ("one bracket", CLIP.replace("[[step]]", "[step]"), 1, "no list of steps", "[[step]], with two brackets"),
    ("no id", CLIP.replace('id = "land"\n', ""), 1, "without id", 'add id = "..."'),
    ("id of signs", CLIP.replace('"land"', '"the land"'), 2, "id = 'the land'", 'id = "relief"'),
    ("id is a number", CLIP.replace('"land"', "7"), 2, "id = 7", "id ="),
    ("two of one id", CLIP + CLIP.replace("land.tif", "b.tif"), 8, "two steps are called 'land'", "rename"),
    ("no verb", CLIP.replace('verb = "clip"\n', ""), 1, "step land has no verb", 'verb = "clip"'),
    ("unknown verb", CLIP.replace('"clip"', '"clipp"'), 3, "there is no verb 'clipp'", "did you mean clip?"),
    ("synonym", CLIP.replace('"clip"', '"crop"'), 3, "there is no verb 'crop'", "clip"),
    ("verb of no step", CLIP.replace('"clip"', '"demo"'), 3, "there is no verb 'demo'", "known are"),
    ("unknown option", CLIP + "touchng = true\n", 7, "clip has no option 'touchng'", "did you mean touching?"),
    ("option of another verb", CLIP + 'interval = 5\n', 7, "clip has no option 'interval'", "known are"),
    ("option twice", CLIP + "keep-bounds = true\nkeep_bounds = true\n", 8, "keep_bounds is there twice", "leave one out"),
    ("option of the run", CLIP + "dry-run = true\n", 7, "dry-run is no option of a step", "zembrel run --dry-run"),
    ("flag with text", CLIP + 'touching = "yes"\n', 7, 'touching = "yes"', "touching = true"),
    ("flag with number", CLIP + "touching = 1\n", 7, "touching = 1", "touching = true"),
    ("number with text", CLIP + 'from-nodata = "none"\n', 7, 'from-nodata = "none"', "from-nodata = 2.5"),
    ("whole number", CLIP + "longest = 10.5\n", 7, "longest = 10.5", "longest = 4"),
    ("text with flag", CLIP + "cell = true\n", 7, "cell = true", 'cell = "..."'),
    ("several values", CLIP + 'cell = ["1m", "2m"]\n', 7, "cell has 2 values", "write one"),
    ("table", CLIP + "cell = {x = 1}\n", 7, "cell is a table", "write one value"),
    ("no inputs", CLIP.replace('inputs = "a.tif"\n', ""), 1, "step land has no inputs", "inputs ="),
    ("empty inputs", CLIP.replace('"a.tif"', "[]"), 1, "step land has no inputs", "inputs ="),
    ("input is a number", CLIP.replace('"a.tif"', "[3]"), 4, "3 is no input", "@island"),
    ("missing input", CLIP.replace('"a.tif"', '"aa.tif"'), 4, "aa.tif does not exist", "did you mean a.tif?"),
    ("pattern", CLIP.replace('"a.tif"', '"z*.tif"'), 4, "nothing fits 'z*.tif'", "check the pattern"),
    ("missing file of an option", CLIP.replace("730100,5099600,730200,5099700", "cost.geojson"), 5, "cost.geojson does not exist", "did you mean coast.geojson?"),
    ("unknown step", CLIP.replace('"a.tif"', '"@lnd"'), 4, "there is no step 'lnd'", "did you mean land?"),
    ("its own result", CLIP.replace('"a.tif"', '"@land"'), 1, "land needs its own result", "another input"),
    ("circle", CLIP.replace('"a.tif"', '"@web"') + CLIP.replace("land", "web").replace('"a.tif"', '"@land"'), 1, "land needs web needs land", "take one of these"),
    ("a step that tells", CLIP.replace('"a.tif"', '"@look"') + '[[step]]\nid = "look"\nverb = "describe"\ninputs = "a.tif"\n', 1, "look makes no file", "the step before it"),
    ("cells in an option", CLIP + '[[step]]\nid = "c"\nverb = "resample"\ninputs = "a.tif"\ncell = 20\n[[step]]\nid = "d"\nverb = "mosaic"\ninputs = "a.tif"\nonto = "@c"\nout = "d.tif"\n', 12, "c has no out", "add out to step c"),
    ("one file of two", CLIP + CLIP.replace('"land"', '"other"'), 12, "land and other both write land.tif", "another out"),
    ("one file of a matrix", "[matrix]\nsize = [10, 20]\n" + CLIP + "cell = $size\n".replace("$size", '"$size"'), 8, "land[10] and land[20] both write land.tif", "put the variable of the matrix into out"),
    ("onto its input", CLIP.replace('"land.tif"', '"./a.tif"'), 6, "writes onto its own input", "another name"),
    ("no out", CLIP.replace('"clip"', '"polygonize"').replace('within = "730100,5099600,730200,5099700"\nout = "land.tif"\n', ""), 1, "step land has no out", 'out = "PATH"'),
    ("nobody asks", CLIP.replace('out = "land.tif"\n', ""), 1, "nobody asks for what step land makes", "@land"),
    ("unknown variable", "[set]\narea = 1\n" + CLIP.replace("730100,5099600,730200,5099700", "$aera") + 'cell = "$area"\n', 7, "there is no variable $aera", "did you mean area?"),
    ("unused variable", "[set]\narea = 1\n" + CLIP, 2, "$area is used by no step", "write $area in a step"),
    ("variable of tables", "[set]\narea = {a = 1}\n" + CLIP + 'cell = "$area"\n', 2, "$area is none of these", "as a text"),
    ("name of a variable", '[set]\n"my area" = 1\n' + CLIP, 2, "'my area' is no name", "rename it"),
    ("circle of variables", '[set]\na = "$b"\nb = "$a"\n' + CLIP, 2, "$a is made of itself", "give one of them a value"),
    ("sign alone", CLIP.replace('"land.tif"', '"5$.tif"'), 6, "'$.' is no variable", "$$ for the sign alone"),
    ("set is no table", "set = 5\n" + CLIP, 1, "set is no table", "write [set]"),
    ("matrix without values", "[matrix]\na = []\n" + CLIP, 2, "$a has no values", "write a list"),
    ("matrix that fits nothing", '[matrix]\na = "x/*.tif"\n' + CLIP, 2, "nothing fits 'x/*.tif'", "write a list"),
    ("matrix twice", '[matrix]\na = ["x", "x"]\n' + CLIP, 2, "'x' is there twice", "leave one out"),
    ("in both", "[set]\na = 1\n[matrix]\na = [1]\n" + CLIP, 4, "$a is in [set] too", "rename"),
    ("shared by none", "[shared]\ninterval = 5\n" + CLIP, 2, "no step has an option 'interval'", "known are"),
    ("shared out", '[shared]\nout = "b.tif"\n' + CLIP, 2, "out cannot be shared", "in the steps"),
    ("shared is no table", "shared = 5\n" + CLIP, 1, "shared is no table", "write [shared]"),
    ("inputs of none", '[[step]]\nid = "s"\nverb = "standin device"\nname = "phone"\npack = "a.tif"\ninputs = "a.tif"\n', 6, "standin device takes no inputs", "leave them out"),
]  # fmt: skip


@pytest.fixture
def folder(zembrel: Program) -> Program:
    save(zembrel.folder / "a.tif", raster(random_cells(60, 80), where=frame(80, 60)))
    (zembrel.folder / "coast.geojson").write_text('{"type": "FeatureCollection", "features": []}')
    return zembrel


@pytest.mark.parametrize(
    ("text", "line", "wrong", "right"), [row[1:] for row in MISTAKES], ids=[row[0] for row in MISTAKES]
)
def test_a_mistake_is_told_with_its_line_and_what_would_be_right(
    folder: Program, text: str, line: int, wrong: str, right: str
) -> None:
    (folder.folder / "i.job.toml").write_text(text)
    what, _, remedy = folder.refuses(3, "run", "i.job.toml")
    assert wrong in what + _ and right in remedy, (what, _, remedy)
    assert f"line {line}" in what + _ if line else "line" not in what


def test_there_are_more_than_forty_kinds() -> None:
    assert len({row[3] for row in MISTAKES}) > 40


@pytest.mark.parametrize(
    ("words", "code", "wrong", "right"),
    [
        (("i.job.toml", "--only", "lnd"), 2, "--only lnd", "did you mean land?"),
        (("i.job.toml", "--from", "x"), 2, "--from x", "known are land"),
        (("i.job.toml", "--set", "aera=5"), 2, "--set aera=5", "add aera"),
        (("i.job.toml", "--set", "5"), 2, "--set 5", "--set year=2030"),
        (("i.job.toml", "--jobs", "0"), 2, "--jobs 0", "--jobs 2"),
        (("i.job.toml", "--figure", "g.xyz"), 2, "g.xyz", ".png"),
        ((), 2, "run needs JOB", "zembrel run island.job.toml"),
        (("nothing",), 3, "nothing cannot be read", "check the path"),
        (("a.tif",), 3, "a.tif is not a job file", "mend that line"),
    ],
)  # fmt: skip
def test_what_is_asked_of_a_run_and_is_not_there_is_told(
    folder: Program, words: tuple[str, ...], code: int, wrong: str, right: str
) -> None:
    (folder.folder / "i.job.toml").write_text(CLIP)
    what, _, remedy = folder.refuses(code, "run", *words)
    assert wrong in what and right in remedy, (what, _, remedy)


def test_lines_are_found_whatever_stands_between(tmp_path: Path) -> None:
    from zembrel.jobs.places import KeyLines

    text = (
        '# a = 1\na = """\nb = 2\n[[step]]\n"""\n"c d" = [\n  "x = 1", # ]\n  "[y]",\n]\n'
        "[set] # the set\ne = '''\n]'''\nf = \"\\\"#[\"\n[[step]]\nid.x = 1\n[[ step ]]\n  id = {a = [1,\n 2]}\nz = 1\n"
    )
    lines = KeyLines.of(text)
    for (table, number, key), line in {
        ("", 0, "a"): 2, ("", 0, "c d"): 6, ("set", 0, ""): 10, ("set", 0, "e"): 11, ("set", 0, "f"): 13,
        ("step", 0, ""): 14, ("step", 0, "id"): 15, ("step", 1, "id"): 17, ("step", 1, "z"): 19,
    }.items():  # fmt: skip
        assert lines.line(table, number, key) == line, key
    assert lines.line("", 0, "b") == 0 and lines.line("step", 1, "unknown") == 16


WHOLE = (
    'title = "x"\n[set]\nsize = "20m"\nlist = ["a.tif"]\n[matrix]\nn = [1, 2]\nfile = "*.tif"\n[shared]\ntouching = true\n'
    '[[step]]\nid = "one"\nverb = "clip"\ninputs = "$file"\nwithin = "730100,5099600,730200,5099700"\ncell = "${size}"\n'
    '[[step]]\nid = "two"\nverb = "tile"\ninputs = ["@one", "$list"]\nsplit = "${n}x2"\nset = {tile = 64}\nout = "$file_name/$n/"\n'
)
PARTS = [
    "$",
    "@",
    "*",
    "[",
    "]",
    '"',
    "{",
    "}",
    "=",
    "\n",
    "..",
    "/",
    "[[step]]",
    "$$",
    "@one*",
    "true",
    "1e999",
    "-1",
    "nan",
    "''",
    '"""',
    "#",
    "\\",
    "é",
    "\0",
]


@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_typed_ends_in_a_plan_or_in_an_error_of_ours(folder: Program, seed: int) -> None:
    """A job file with words exchanged, doubled, dropped and put in by chance."""
    random = Random(seed)
    path = folder.folder / "r.job.toml"
    planned = 0
    for _ in range(50):
        text = WHOLE
        for _ in range(random.randint(1, 4)):
            at = random.randrange(len(text))
            ends = at + random.choice((0, 0, 1, 3, 12, 60))
            text = text[:at] + random.choice([*PARTS, text[ends : ends + 20]]) + text[ends:]
        path.write_text(text)
        try:
            read_job(path, TABLE)
            planned += 1
        except ZembrelError as exc:
            assert exc.what and exc.why and exc.remedy
    path.write_text(WHOLE)
    assert len(read_job(path, TABLE).steps) == 3 and planned < 50
