"""What a job runs: that of which something has changed, and nothing else; the same files come of it, whatever
happens on the way."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

import depth
from program import Program, Said, listing
from rasters import frame, random_cells, raster, save

JOB = """
title = "Two sheets"
[set]
cell = "20m"
[[step]]
id = "whole"
verb = "mosaic"
inputs = "in/"
out = "whole.tif"
[[step]]
id = "coarse"
verb = "resample"
inputs = "@whole"
cell = "$cell"
method = "mean"
[[step]]
id = "web"
verb = "reproject"
inputs = "@coarse"
crs = "EPSG:3857"
out = "out/web.tif"
[[step]]
id = "sheets"
verb = "tile"
inputs = "whole.tif"
split = "2x2"
index = "out/sheets.geojson"
out = "out/sheets/"
[[step]]
id = "look"
verb = "describe"
inputs = "@web"
stats = true
"""


@pytest.fixture
def job(zembrel: Program) -> Program:
    for n in range(2):
        sheet = raster(random_cells(60, 80, seed=n), where=frame(80, 60, left=730_000 + 800 * n))
        save(zembrel.folder / f"in/{n}.tif", sheet)
    (zembrel.folder / "i.job.toml").write_text(JOB)
    return zembrel


def states(said: Said) -> dict[str, str]:
    return {row["id"]: row["state"] for row in said.json["steps"]}


def ran(said: Said) -> set[str]:
    return {id for id, state in states(said).items() if state in ("ran", "to run")}


def why(said: Said, id: str) -> Any:
    return next(row["why"] for row in said.json["steps"] if row["id"] == id)


def run(job: Program, *words: str, code: int = 0) -> Said:
    return job("run", "i.job.toml", "--json", *words, code=code)


def change(job: Program, old: str, new: str) -> None:
    path = job.folder / "i.job.toml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))


def made(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not path.name.startswith(("i.", "."))
    }


def test_only_what_has_changed_runs_again(job: Program) -> None:
    assert ran(run(job)) == {"whole", "web", "sheets", "look"}  # what goes on as cells is part of another
    before = made(job.folder)
    assert not ran(run(job)) and made(job.folder) == before
    change(job, 'method = "mean"', 'method = "max"')
    said = run(job, "--dry-run")
    assert ran(said) == {"web", "look"} and made(job.folder) == before
    assert why(said, "web") == {"fact": "options_changed", "options": ["method"]}
    assert ran(run(job)) == {"web", "look"}
    change(job, 'method = "max"', 'method = "mean"')
    assert ran(run(job)) == {"web", "look"} and made(job.folder) == before


def test_an_input_counts_by_what_is_in_it(job: Program) -> None:
    run(job)
    sheet = job.folder / "in/1.tif"
    sheet.touch()
    assert not ran(run(job))
    base = sqlite3.connect(job.folder / "i.state.sqlite")
    assert base.execute("select changed from content where path = 'in/1.tif'").fetchone() == (
        sheet.stat().st_mtime_ns,
    )
    base.close()
    save(sheet, raster(random_cells(60, 80, seed=9), where=frame(80, 60, left=730_800)))
    said = run(job)
    assert ran(said) == {"whole", "web", "sheets", "look"} and why(said, "whole")["path"] == "in/1.tif"
    save(job.folder / "in/2.tif", raster(random_cells(60, 80, seed=3), where=frame(80, 60, left=731_600)))
    assert why(run(job), "whole") == {"fact": "files_changed", "word": "in/", "path": "2.tif"}


@pytest.mark.parametrize("harm", ["gone", "altered", "altered, and dated back"])
def test_a_result_that_is_gone_or_altered_is_made_again_and_what_rests_on_it_stands(
    job: Program, harm: str
) -> None:
    run(job)
    before, whole = made(job.folder), job.folder / "whole.tif"
    then = whole.stat()
    if harm == "gone":
        whole.unlink()
    else:
        whole.write_bytes(before["whole.tif"][:-1] + b"?")
        if "dated" in harm:
            os.utime(whole, ns=(then.st_atime_ns, then.st_mtime_ns))
    said = run(job)
    assert ran(said) == {"whole"} and why(said, "whole")["fact"] == f"result_{harm.partition(',')[0]}"
    assert made(job.folder) == before  # the same file came of it, so that nothing else was due


def test_a_file_that_the_job_has_not_made_is_never_replaced_unasked(job: Program) -> None:
    (job.folder / "whole.tif").write_text("mine")
    what, why_not, remedy = job.refuses(4, "run", "i.job.toml")
    assert what == "whole.tif exists" and "this job has not made it" in why_not and "--replace" in remedy
    (job.folder / "whole.tif").unlink()
    (job.folder / "out/sheets").mkdir(parents=True)
    run(job, "--only", "whole")
    run(job, "--only", "sheets")
    first = sorted((job.folder / "out/sheets").glob("*.tif"))[0]
    (job.folder / "i.state.sqlite").unlink()
    for name in ("whole.tif", "out/sheets.geojson"):
        (job.folder / name).unlink()
    first.write_text("mine")
    assert f"{first.name} exists" in run(job, code=4).json["error"] and first.read_text() == "mine"
    assert ran(run(job, "--replace")) == {"sheets", "look"} and first.read_bytes()[:2] == b"II"


def test_single_steps_are_asked_for(job: Program) -> None:
    assert ran(run(job, "--only", "web")) == {"whole", "web"}
    assert states(run(job, "--only", "web")) == {"whole": "unchanged", "web": "unchanged"}
    assert ran(run(job)) == {"sheets", "look"}
    assert ran(run(job, "--from", "web")) == {"web", "look"}
    assert ran(run(job, "--only", "web", "--force")) == {"whole", "web"}
    assert ran(run(job, "--set", "cell=40m")) == {"web", "look"}
    assert tifffile.imread(job.folder / "out/web.tif").shape[0] < 40


def test_others_go_on_where_one_fails_and_the_rest_is_done_later(job: Program) -> None:
    change(job, 'crs = "EPSG:3857"', 'crs = "EPSG:3857"\nwithin = "bad.geojson"')
    (job.folder / "bad.geojson").write_text("{")
    said = run(job, code=3)
    assert said.json["error"].startswith("step web: ") and "bad.geojson" in said.json["error"]
    said = run(job, "--keep-going", code=7)
    assert states(said) == {"whole": "unchanged", "web": "failed", "sheets": "ran", "look": "not run"}
    assert said.json["lost"][0]["input"] == "step web"
    change(job, '\nwithin = "bad.geojson"', "")
    assert ran(run(job)) == {"web", "look"}


def test_a_check_that_does_not_hold_is_a_step_that_fails(job: Program) -> None:
    path = job.folder / "i.job.toml"
    path.write_text(
        JOB
        + '[[step]]\nid = "same"\nverb = "compare"\ninputs = ["in/0.tif", "same.tif"]\nat-least = "share=1"\n'
    )
    job("convert", "in/0.tif", "--out", "same.tif")
    assert "same" in ran(run(job)) and not ran(run(job))
    save(job.folder / "same.tif", raster(random_cells(60, 80, seed=5), where=frame(80, 60)))
    assert run(job, code=1).json["error"].startswith("step same: ")
    assert states(run(job, "--dry-run"))["same"] == "to run"


def test_cells_that_go_on_without_a_file_are_those_of_the_file(job: Program) -> None:
    run(job)
    fused = tifffile.imread(job.folder / "out/web.tif")
    change(job, 'method = "mean"\n', 'method = "mean"\nout = "coarse.tif"\n')
    assert ran(run(job)) == {"coarse", "web", "look"}  # the file tells of one step more
    np.testing.assert_array_equal(tifffile.imread(job.folder / "out/web.tif"), fused)


def test_steps_at_once_make_the_same_files(job: Program) -> None:
    run(job)
    before = made(job.folder)
    assert ran(run(job, "--force", "--jobs", "3")) == {"whole", "web", "sheets", "look"}
    assert made(job.folder) == before and not ran(run(job))


def children_of(process: int) -> list[str]:
    try:
        return Path(f"/proc/{process}/task/{process}/children").read_text().split()
    except OSError:  # it has ended
        return []


def lives(process: str) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_a_process_that_is_lost_is_told_and_what_is_done_stands(job: Program) -> None:
    process = subprocess.Popen(
        [sys.executable, "-m", "zembrel", "run", "i.job.toml", "--jobs", "2"],
        cwd=job.folder, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    while not (job.folder / "whole.tif").exists():
        time.sleep(0.02)
    for child in children_of(process.pid):
        if "spawn_main" in Path(f"/proc/{child}/cmdline").read_text():
            os.kill(int(child), signal.SIGKILL)
    said = process.communicate()[1].strip().splitlines()
    assert process.returncode == 5 and "a process of this run was lost" in said[-3], said
    assert ran(run(job)) >= {"web", "look"} and not ran(run(job))


def test_two_steps_never_make_one_file_of_a_folder(job: Program) -> None:
    (job.folder / "i.job.toml").write_text("".join(
        f'[[step]]\nid = "{id}"\nverb = "resample"\ninputs = ["in/0.tif", "in/1.tif"]\ncell = "{cell}"\nout = "o/"\n'
        for id, cell in (("fine", "5m"), ("coarse", "20m"))
    ))  # fmt: skip
    said = job("run", "i.job.toml", code=4).err
    assert "step coarse: o/0.tif is a result of step fine too" in said and "its own out" in said


def test_a_matrix_makes_a_step_for_each_value_that_it_mentions(job: Program) -> None:
    (job.folder / "i.job.toml").write_text("""
        [matrix]
        sheet = "in/*.tif"
        of = ["slope", "aspect"]
        [[step]]
        id = "half"
        verb = "resample"
        inputs = "$sheet"
        cell = "20m"
        [[step]]
        id = "terrain"
        verb = "terrain"
        inputs = "@half"
        of = "$of"
        z-unit = "m"
        out = "${of}/$sheet_name.tif"
        [[step]]
        id = "whole"
        verb = "mosaic"
        inputs = "@terrain*"
        out = "$of.tif"
    """)
    assert ran(run(job)) == {f"terrain[{n},{of}]" for n in "01" for of in ("slope", "aspect")} | {
        "whole[slope]",
        "whole[aspect]",
    }
    assert tifffile.imread(job.folder / "slope.tif").shape == (30, 80)
    assert ran(run(job, "--only", "whole[slope]", "--force")) == {
        "terrain[0,slope]",
        "terrain[1,slope]",
        "whole[slope]",
    }
    save(job.folder / "in/1.tif", raster(random_cells(60, 80, seed=9), where=frame(80, 60, left=730_800)))
    assert ran(run(job)) == {"terrain[1,slope]", "terrain[1,aspect]", "whole[slope]", "whole[aspect]"}


@pytest.mark.parametrize("kills", depth.some([3, 10], [3]))
def test_a_run_killed_at_any_moment_is_gone_on_with_and_ends_with_the_same_files(
    job: Program, kills: int
) -> None:
    run(job)
    whole = made(job.folder)
    moments = random.Random(3)
    command = [sys.executable, "-m", "zembrel", "run", "i.job.toml", "--quiet", "--jobs", "2"]
    killed = 0
    for n in range(kills):
        for path in [*job.folder.glob("out/**/*"), job.folder / "whole.tif"]:
            if path.is_file() and moments.random() < 0.6:
                path.unlink()
        jobs = [] if n % 2 else ["--jobs", "2"]
        process = subprocess.Popen(
            [*command[:5], *jobs, "--force"], cwd=job.folder, stderr=subprocess.DEVNULL
        )
        time.sleep(moments.uniform(0.6, 2.2))
        killed += process.poll() is None
        workers = children_of(process.pid)
        process.send_signal(signal.SIGKILL)
        process.wait()
        while any(map(lives, workers)):  # they die with it, but not in the same moment
            time.sleep(0.01)
        if n % 3 == 2:
            run(job)
            assert made(job.folder) == whole
    run(job)
    assert made(job.folder) == whole and killed > kills // 3
    assert not [path for path in listing(job.folder) if "zembrel-part" in str(path)]


def test_two_runs_at_once_do_not_come_between_each_other(job: Program) -> None:
    command = [sys.executable, "-m", "zembrel", "run", "i.job.toml", "--quiet"]
    runs = [subprocess.Popen(command, cwd=job.folder, stderr=subprocess.PIPE, text=True) for _ in range(3)]
    told = [(process.communicate()[1], process.returncode) for process in runs]
    assert 0 in {code for _, code in told} and {code for _, code in told} <= {0, 4}
    assert all("another run of this job is under way" in text for text, code in told if code == 4)
    assert not ran(run(job))


def test_the_state_is_one_file_and_moves_with_the_job(job: Program, tmp_path: Path) -> None:
    run(job)
    assert [path.name for path in job.folder.glob("i.state*")] == ["i.state.sqlite"]
    rows = sqlite3.connect(job.folder / "i.state.sqlite").execute("select path from content").fetchall()
    assert ("whole.tif",) in rows and not any(path.startswith("/") for (path,) in rows)
    moved = Program(tmp_path.parent / f"{tmp_path.name}-moved")
    tmp_path.rename(moved.folder)
    assert not ran(run(moved))
    moved.folder.rename(tmp_path)


def test_the_plan_is_drawn(job: Program) -> None:
    from PIL import Image

    run(job, "--only", "whole")
    job("run", "i.job.toml", "--dry-run", "--figure", "g.png")
    with Image.open(job.folder / "g.png") as picture:
        assert picture.size == (1280, 800) and len(picture.convert("RGB").getcolors(1 << 20) or []) > 20
    said = job("run", "i", "--dry-run").err
    assert "resample + reproject @whole -> out/web.tif" in said and "not done before" in said


@pytest.mark.deep
def test_the_island_is_one_job_that_the_readme_shows(marrowick: Path, tmp_path: Path) -> None:
    """The whole of it runs in the demo's own test of the tour; here what changes with one late option."""
    text = (marrowick / "island.job.toml").read_text()
    assert text in (Path(__file__).parents[2] / "README.md").read_text()
    for path in marrowick.iterdir():
        if path.name != "island.job.toml":
            (tmp_path / path.name).symlink_to(path)
    (tmp_path / "island.job.toml").write_text(text)
    program = Program(tmp_path)
    first = program("run", "island", "--json")
    assert set(states(first).values()) == {"ran"} and len(states(first)) == 22
    (tmp_path / "island.job.toml").write_text(text.replace("interval = 50", "interval = 40"))
    assert ran(program("run", "island", "--json")) == {"lines"}


def test_each_block_of_the_source_is_read_once_in_one_pass(
    job: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Clip, reproject and tile as one: no segment of the source is asked of the disk twice."""
    from collections import Counter

    import zembrel as z
    from zembrel.handles import FileHandles

    save(
        job.folder / "big.tif",
        raster(random_cells(700, 800), where=frame(800, 700)),
        tile="64",
        overviews="no",
    )
    (job.folder / "i.job.toml").write_text(
        '[[step]]\nid="a"\nverb="clip"\ninputs="big.tif"\nwithin="730500,5094000,737000,5099500"\n'
        '[[step]]\nid="b"\nverb="reproject"\ninputs="@a"\ncrs="EPSG:3857"\n'
        '[[step]]\nid="c"\nverb="tile"\ninputs="@b"\ncells=256\nout="o/"\n'
    )
    with tifffile.TiffFile(job.folder / "big.tif") as file:
        offsets = set(file.pages[0].dataoffsets)  # type: ignore[union-attr]
    read, asked = FileHandles.read, Counter[int]()

    def counted(self: Any, path: Any, offset: int, count: int, due: Any = None) -> bytes:
        if str(path).endswith("big.tif") and offset in offsets:
            asked[offset] += 1
        return read(self, path, offset, count, due)

    monkeypatch.setattr(FileHandles, "read", counted)
    monkeypatch.chdir(job.folder)
    receipt = z.run("i.job.toml")
    assert receipt.own["steps"][0]["with"] == [{"id": "a", "verb": "clip"}, {"id": "b", "verb": "reproject"}]
    assert len(asked) > 80 and set(asked.values()) == {1}


def test_another_version_of_a_verb_is_due_where_its_results_are_others(
    job: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    import zembrel as z
    from zembrel.results import verboptions
    from zembrel.verbtable import VERBS

    monkeypatch.chdir(job.folder)
    z.run("i.job.toml")
    monkeypatch.setitem(VERBS, "resample", replace(VERBS["resample"], revision=2))
    verboptions.signature_of.cache_clear()
    steps = {row["id"]: row for row in z.run("i.job.toml", dry_run=True).own["steps"]}
    verboptions.signature_of.cache_clear()
    assert (
        steps["web"]["why"] == {"fact": "program_changed", "verb": "resample"}
        and steps["whole"]["state"] == "unchanged"
    )


def test_progress_is_shown_for_the_step_and_for_the_job(job: Program) -> None:
    ours, theirs = os.openpty()
    command = [sys.executable, "-m", "zembrel", "run", "i.job.toml", "--progress"]
    process = subprocess.Popen(
        command, cwd=job.folder, stderr=theirs, env=os.environ | {"TERM": "xterm", "COLUMNS": "120"}
    )
    os.close(theirs)
    told = bytearray()
    while True:
        try:
            piece = os.read(ours, 4096)
        except OSError:  # the other end is closed
            break
        if not piece:
            break
        told += piece
    assert process.wait() == 0
    assert b"of 4 steps" in told and b"job" in told and b"blocks" in told and b"sheets" in told
