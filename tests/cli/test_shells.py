"""What shells ask for and get, manual pages, and what defaults are explained."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Shared
from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.cli.completing import candidates
from zembrel.verbtable import VERBS


@pytest.fixture
def folder(zembrel: Program) -> Program:
    save(zembrel.folder / "a.tif", raster(random_cells(3, 60, 80), where=frame(80, 60)))
    (zembrel.folder / "i.job.toml").write_text(
        '[[step]]\nid = "land"\nverb = "clip"\n[[step]]\nid = "lake"\nverb = "clip"\n[[step]]\nid = "web"\nverb = "tile"\n'
    )
    return zembrel


LINES = [
    ("zembrel re", ["resample", "reproject", "receipt"]), ("zembrel deliver ", ["pyramid", "globe", "chart", "heightmap", "hgt", "chips", "film", "carry"]),
    ("zembrel clip a.tif --within-", ["--within-where"]), ("zembrel reproject a.tif --crs 32626", ["EPSG:32626"]),
    ("zembrel reproject a.tif --crs EPSG:32626", ["32626"]), ('zembrel reproject a.tif --crs "UTM zone 26N', None),
    ("zembrel clip a.tif --bands red,gr", ["red,green"]), ("zembrel run i --only la", ["land", "lake"]), ("zembrel clip a", ["files:"]),
    ("zembrel clip a.tif --within ", ["files:"]), ("zembrel mosaic a.tif --overlap f", ["first", "feather"]), ("zembrel crs ", ["find", "show", "fit", "operations"]),
    ("zembrel nothing ", []), ("zembrel fetch ", ["photo"]), ("zembrel clip 'a", ["files:"]), ("zembrel shell z", ["zsh"]),
]  # fmt: skip


@pytest.mark.parametrize(("line", "expected"), LINES, ids=[line for line, _ in LINES])
def test_a_shell_gets_what_may_stand_there(folder: Program, line: str, expected: list[str] | None) -> None:
    (folder.folder / "sources").mkdir()
    (folder.folder / "sources/photo.source.toml").write_text('kind = "file"\naddress = "a.tif"\n')
    said = folder(ZEMBREL_COMPLETE="bash", ZEMBREL_LINE=line).out.splitlines()
    if expected is None:
        assert "EPSG:32626" in said and len(said) > 2
    else:
        assert said == expected


def test_every_verb_completes_its_options() -> None:
    for verb in VERBS:
        found = list(candidates(verb.split(), "--"))
        assert {"--json", "--explain"} <= {one.word for one in found}, verb


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_the_script_of_each_shell_does_it(folder: Program, shell: str) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"Debian's package {shell} is missing; .ci/run installs it")
    script = folder.folder / "script"
    script.write_text(folder("shell", shell).out)
    asked = {
        "bash": f'source {script}; COMP_LINE="zembrel run i --only la"; COMP_POINT=${{#COMP_LINE}}; COMP_WORDS=($COMP_LINE); COMP_CWORD=4; _zembrel; printf "%s\\n" "${{COMPREPLY[@]}}"',
        "zsh": f"autoload -Uz compinit; compinit -u; source {script}; _describe() {{ print -l ${{described%%:*}} }}; words=(zembrel run i --only la); CURRENT=5; _zembrel",
        "fish": f"source {script}; complete -C 'zembrel run i --only la'",
    }[shell]  # fmt: skip
    bin = Path(sys.executable).parent
    run = subprocess.run(
        [shell, "-c", asked],
        cwd=folder.folder,
        capture_output=True,
        text=True,
        env={"PATH": f"{bin}:/usr/bin:/bin", "HOME": str(folder.folder)},
    )
    assert sorted(line.split("\t")[0] for line in run.stdout.splitlines()) == ["lake", "land"], run.stderr


def test_each_verb_has_a_manual_page_with_all_its_options(shared: Shared) -> None:
    pages = shared("manual", lambda folder: Program(folder)("shell", "man", "--out", "man/") and None) / "man"
    assert {path.name for path in pages.iterdir()} == {
        "zembrel.1",
        *(f"zembrel-{verb.replace(' ', '-')}.1" for verb in VERBS),
    }
    text = (pages / "zembrel-clip.1").read_text()
    assert text.startswith('.TH "ZEMBREL-CLIP" 1') and ".B \\-\\-within\\-where" not in text.splitlines()[0]
    for flag in ("within", "touching", "keep\\-bounds"):
        assert f"\\-\\-{flag}" in text
    if shutil.which("groff"):
        for path in pages.iterdir():
            done = subprocess.run(["groff", "-man", "-ww", "-z", path], capture_output=True, text=True)
            assert not done.stderr, (path.name, done.stderr)


def test_defaults_are_explained_and_nothing_is_written(folder: Program) -> None:
    (folder.folder / "zembrel.toml").write_text('[reproject]\nmethod = "cubic"\n')
    said = folder("reproject", "a.tif", "--crs", "EPSG:3857", "--out", "b.tif", "--explain").out
    lines = [re.split(" {2,}", line) for line in said.splitlines() if line.startswith("--")]
    rows = {option: [value, source] for option, value, source, _ in lines}
    assert rows["--crs"] == ["EPSG:3857", "given"] and rows["--method"] == ["cubic", "zembrel.toml"]
    assert rows["--replace"] == ["no", "default"] and rows["--ceiling"] == ["20 GB", "default"]
    assert (
        said.index("chosen for these inputs:") < said.index("method cubic (as asked)") < said.index("--crs")
    )
    assert not (folder.folder / "b.tif").exists()
    for words in (
        ("draw", "a.tif", "--out", "b.png"), ("demo", "--out", "b"), ("crs", "4326"),
        ("compare", "a.tif", "a.tif", "--figure", "b.png"), ("describe", "a.tif", "--history"),
    ):  # fmt: skip
        said = folder(*words, "--explain").out
        assert said.startswith("option") and not list(folder.folder.glob("b*")), words


@pytest.mark.parametrize("words", [(), ("csh",), ("bash", "zsh")])
def test_other_shells_are_named(folder: Program, words: tuple[str, ...]) -> None:
    said = " ".join(folder.refuses(2, "shell", *words))
    assert all(name in said for name in ("bash", "zsh", "fish", "man"))
