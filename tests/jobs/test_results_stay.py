"""A run never removes a result, whatever was edited in the job before it, and never writes onto what is not its own."""

from __future__ import annotations

import copy
import random
import shutil
import sqlite3
import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomli_w

import depth
from program import Program, Said
from rasters import frame, random_cells, raster, save

MONTHLY = """
[set]
month = "2026-12"
[matrix]
area = ["north", "south"]
[[step]]
id = "part"
verb = "resample"
inputs = "in/${month}.tif"
cell = "20m"
out = "made/$month/$area/relief.tif"
[[step]]
id = "sheets"
verb = "tile"
inputs = "@part"
split = "2x1"
out = "made/$month/$area/sheets/"
"""


def write_job(folder: Path, text: str, name: str = "j.job.toml") -> None:
    (folder / name).write_text(text)


@pytest.fixture
def job(zembrel: Program) -> Program:
    for n, month in enumerate(("2026-12", "2027-01", "2027-02")):
        save(zembrel.folder / f"in/{month}.tif", raster(random_cells(40, 60, seed=n), where=frame(60, 40)))
    write_job(zembrel.folder, MONTHLY)
    return zembrel


def files(folder: Path) -> dict[str, bytes]:
    """What is in a folder, the job and its state aside."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not path.name.startswith((".", "j."))
    }


def run(job: Program, *words: str, code: int | None = 0) -> Said:
    return job("run", "j.job.toml", *words, "--json", code=code)


def test_three_months_are_three_complete_deliveries(job: Program) -> None:
    for month in ("2026-12", "2027-01", "2027-02"):
        run(job, "--set", f"month={month}")
    made = {
        month: {p.name for p in (job.folder / "made" / month).rglob("*.tif")}
        for month in ("2026-12", "2027-01", "2027-02")
    }
    assert (
        set(made) == {"2026-12", "2027-01", "2027-02"}
        and len({frozenset(names) for names in made.values()}) == 1
    )
    whole = files(job.folder)
    assert len([name for name in whole if name.startswith("made/")]) == 18
    assert run(job, "--set", "month=2027-02").json["left_over"] == []
    again = run(job, "--set", "month=2026-12").json
    assert {row["state"] for row in again["steps"]} == {"unchanged"} and files(job.folder) == whole


def test_the_months_of_a_job_know_of_each_other(job: Program) -> None:
    """What one run has made is nothing that another run of the same job would remove or make again."""
    run(job)
    run(job, "--set", "month=2027-01")
    whole = files(job.folder)
    for words in ((), ("--set", "month=2027-01"), ("--set", "month=2026-12")):
        said = run(job, *words, "--dry-run").json
        assert said["left_over"] == [] and {row["state"] for row in said["steps"]} == {"unchanged"}
        assert run(job, *words, "--clean").json["removed"] == [] and files(job.folder) == whole
    write_job(job.folder, MONTHLY.replace('["north", "south"]', '["north"]'))
    assert len(run(job, "--dry-run").json["left_over"]) == 3
    run(job, "--clean")
    assert whole.keys() - files(job.folder).keys() == {
        name for name in whole if name.startswith("made/2026-12/south/")
    }


def test_what_the_job_no_longer_makes_is_listed_and_removed_only_when_asked(job: Program) -> None:
    run(job)
    whole = files(job.folder)
    write_job(job.folder, MONTHLY.replace('["north", "south"]', '["north"]').replace("2x1", "1x1"))
    assert (
        len(run(job, "--dry-run").json["left_over"]) == 3
    )  # of the south; the sheets of the north are not known yet
    assert len(run(job).json["left_over"]) == 4
    assert all(name in files(job.folder) for name in whole)
    said = job("run", "j.job.toml", "--dry-run").err
    assert "4 results that the job no longer makes" in said and "made/2026-12/south/relief.tif" in said
    (job.folder / "made/2026-12/south/relief.tif").write_bytes(b"mine")
    before = files(job.folder)
    assert (
        "south/relief.tif" in job("run", "j.job.toml", "--clean", "--dry-run").err
        and files(job.folder) == before
    )
    said = job("run", "j.job.toml", "--clean").err
    gone = before.keys() - files(job.folder).keys()
    assert (
        "removed  3 results" in said
        and len(gone) == 3
        and all(f"no longer makes {name}" in said for name in gone)
    )
    assert files(job.folder)["made/2026-12/south/relief.tif"] == b"mine" and "changed since" in said
    assert len(run(job).json["left_over"]) == 1


def steps(*rows: dict[str, Any]) -> str:
    return tomli_w.dumps({"step": list(rows)})


def step(id: str, out: str, cell: str = "20m", **more: Any) -> dict[str, Any]:
    return {"id": id, "verb": "resample", "inputs": "in/2026-12.tif", "cell": cell, "out": out} | more


def test_results_are_known_by_what_they_are_whatever_their_path(job: Program) -> None:
    write_job(job.folder, steps(step("a", "x.tif"), step("b", "y.tif", "30m")))
    run(job)
    fresh = files(job.folder)
    write_job(job.folder, steps(step("b", "x.tif"), step("a", "y.tif", "30m")))
    run(job)
    assert files(job.folder) == fresh, "two ids were swapped"
    (job.folder / "link").symlink_to(".")
    for spelled in (str(job.folder / "x.tif"), "link/x.tif", "./in/../x.tif"):
        write_job(job.folder, steps(step("b", spelled), step("a", "y.tif", "30m")))
        said = run(job).json
        assert (
            said["left_over"] == []
            and {k: v for k, v in files(job.folder).items() if "link" not in k} == fresh
        )
    write_job(job.folder, steps(step("a", "x.tif"), step("b", "link/x.tif", "30m")))
    assert "both write" in job.refuses(3, "run", "j.job.toml")[0]


def test_what_a_step_would_make_at_its_next_run_is_never_cleaned_away(job: Program) -> None:
    cut = {"id": "c", "verb": "tile", "inputs": "in/2026-12.tif", "split": "2x1", "out": "s/"}
    pack = {"id": "p", "verb": "deliver pyramid", "inputs": "in/2026-12.tif", "zooms": "12", "out": "tiles"}
    write_job(job.folder, steps(step("a", "x.tif"), cut, pack))
    run(job)
    whole = files(job.folder)
    write_job(job.folder, steps(step("aa", "x.tif"), cut | {"id": "cc"}, pack | {"id": "pp"}))
    assert run(job, "--dry-run").json["left_over"] == []
    assert run(job, "--clean").json["removed"] == [] and files(job.folder) == whole
    assert len({row["state"] for row in run(job).json["steps"]} - {"ran"}) == 0
    assert files(job.folder) == whole and run(job, "--clean").json["removed"] == []


@pytest.mark.parametrize("name", ["j.job.toml", "j.frame.toml"])
def test_the_files_of_the_job_are_never_written(job: Program, name: str) -> None:
    state = name.replace(".job", "").replace(".toml", ".state.sqlite")
    for out in (name, f"./{name}", str(job.folder / name), state):
        row = {"id": "a", "verb": "frame", "inputs": "in/2026-12.tif", "out": out}
        write_job(job.folder, steps(row if out.endswith(".toml") else step("a", out, format="geotiff")), name)
        text = (job.folder / name).read_text()
        for more in ((), ("--replace",)):
            assert "is a file of the job itself" in job.refuses(4, "run", name, *more)[0]
        assert (job.folder / name).read_text() == text


@pytest.mark.parametrize(
    "option", [{"inputs": "in/2026-12.tif"}, {"onto": "in/2026-12.tif", "inputs": "in/2027-01.tif"}]
)
def test_an_input_is_never_written_whatever_option_names_it(job: Program, option: dict[str, str]) -> None:
    row = {"id": "a", "verb": "clip", "out": str(job.folder / "in/2026-12.tif")} | option
    write_job(job.folder, steps(row))
    assert "writes onto its own input" in job.refuses(3, "run", "j.job.toml", "--replace")[0]


def test_a_pack_in_a_folder_that_was_changed_is_told_first_and_made_anew_if_that_is_asked(
    job: Program,
) -> None:
    pack = {"id": "b", "verb": "deliver pyramid", "inputs": "in/2026-12.tif", "zooms": "12", "out": "tiles"}
    write_job(job.folder, steps(step("a", "x.tif"), pack))
    run(job)
    whole = files(job.folder)
    for harm in (b" ", b"{"):
        index = job.folder / "tiles/tiles.json"
        index.write_bytes(index.read_bytes() + harm if harm == b" " else harm)
        (job.folder / "x.tif").unlink()
        if harm == b"{":
            assert "changed since this job made it" in job.refuses(4, "run", "j.job.toml")[0]
        run(job, "--replace")
        assert files(job.folder) == whole
    (job.folder / "tiles/mine.txt").write_text("mine")
    write_job(job.folder, steps(step("a", "x.tif"), pack | {"zooms": "11"}))
    assert "changed since" in job.refuses(4, "run", "j.job.toml", "--replace")[0]


@pytest.mark.parametrize("harm", [
    "update step set asked = '{'", "update step set asked = '[]'", "update step set receipt = '{'", "update step set seconds = 'long'",
    "update content set path = null", "update content set size = 'x'", "update content set step = null, made = 7",
    "drop table content; create view content as select 1", "drop table claim; create table claim (other)", "pragma user_version = 9",
    "create view other as select * from step", "update step set receipt = cast(x'ff7b' as text)",
])  # fmt: skip
def test_a_damaged_state_is_told_with_the_way_out(job: Program, harm: str) -> None:
    run(job)
    base = sqlite3.connect(job.folder / "j.state.sqlite")
    base.executescript(harm)
    base.close()
    for words in ((), ("--dry-run",), ("--clean",)):
        what, _, remedy = job.refuses(3, "run", "j.job.toml", *words)
        assert "j.state.sqlite is no state of a job" in what and "remove it" in remedy


@pytest.mark.parametrize("seed", range(depth.examples(12)))
def test_flipped_bytes_of_the_state_end_in_a_run_or_an_error_of_ours(job: Program, seed: int) -> None:
    state, chance = job.folder / "j.state.sqlite", random.Random(seed)
    run(job)
    data = bytearray(state.read_bytes())
    for _ in range(chance.choice((1, 3, 20))):
        data[chance.randrange(min(len(data), chance.choice((100, 4096, len(data)))))] ^= (
            1 << chance.randrange(8)
        )
    state.write_bytes(data)
    for words in (("--dry-run",), ()):
        assert run(job, *words, code=None).code in (0, 3, 4)


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("[matrix]\n" + "".join(f"v{n} = {list(range(1000))}\n" for n in range(3)) + '[[step]]\nid="a"\nverb="resample"\ninputs="in/2026-12.tif"\ncell="${v0}m"\nout="$v1/$v2.tif"\n', "1,000,000,000 steps"),
        ("[set]\na0 = 'aaaaaaaaaa'\n" + "".join(f"a{n} = '{f'${{a{n - 1}}}' * 10}'\n" for n in range(1, 10)) + '[[step]]\nid="a"\nverb="resample"\ninputs="in/2026-12.tif"\ncell="1m"\nout="$a9.tif"\n', "more than 65,536 characters"),
        (steps(step("a", "x" * 300 + ".tif")), "has 304 characters"),
        (steps(step("a", "x/" * 2500 + "y.tif")), "characters"),
        (steps(step("a", "$aera.tif")) + '[set]\narea = "n"\n', "there is no variable $aera"),
    ],
)  # fmt: skip
def test_limits_are_told_before_anything_runs(job: Program, text: str, what: str) -> None:
    write_job(job.folder, text)
    said = job.refuses(3, "run", "j.job.toml")
    assert what in said[0] and ("$aera" not in what or said[2] == "did you mean area?")


class Edits:
    """A job that is edited at random."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)
        self.rows = [step("a", "made/a.tif"), step("b", "made/b.tif", "30m"), {"id": "c", "verb": "tile", "inputs": "made/a.tif", "split": "2x1", "out": "made/c/"}]  # fmt: skip

    def edit(self, folder: Path) -> None:
        kind, row = self.chance.randrange(6), self.chance.choice(self.rows)
        if kind == 0:  # another place, or another spelling of one
            name = self.chance.choice("abcde")
            out = self.chance.choice(
                ("made/{}.tif", "{root}/made/{}.tif", "link/{}.tif", "other/{}.tif")
            ).format(name, root=folder)
            row["out"] = out if row["verb"] == "resample" else f"made/{name}/"
        elif kind == 1:
            ids = [row["id"] for row in self.rows]
            self.chance.shuffle(ids)
            for row, id in zip(self.rows, ids, strict=True):
                row["id"] = id
        elif kind == 2:
            self.chance.shuffle(self.rows)
        elif kind == 3 and row["verb"] == "resample":
            row["cell"] = self.chance.choice(("15m", "20m", "30m", "40m"))
        elif kind == 4 and len(self.rows) > 2:
            self.rows.remove(row)
        elif kind == 5:
            self.rows.append(
                step(f"s{self.chance.randrange(10**6)}", f"made/{self.chance.choice('abcdef')}.tif", "25m")
            )


@pytest.mark.parametrize("rounds", depth.some([15, 200], [15]))
def test_edits_of_a_job_never_lose_a_result_nor_what_is_not_one(job: Program, rounds: int) -> None:
    """What a fresh folder would hold after the edited job is what this one holds; whatever was there stays there."""
    (job.folder / "made").mkdir()
    (job.folder / "link").symlink_to("made")
    edits, ran, own = Edits(7), 0, {"made/mine.tif": b"mine", "in/own.txt": b"own"}
    for name, data in own.items():
        (job.folder / name).write_bytes(data)
    known: set[str] = set()
    for _ in range(rounds):
        before = copy.deepcopy(edits.rows)
        edits.edit(job.folder)
        write_job(job.folder, tomli_w.dumps({"step": edits.rows}))
        cleaned: set[str] = set()
        if edits.chance.random() < 0.3 and (said := run(job, "--clean", code=None)).code == 0:
            cleaned = set(said.json["removed"])
            known -= cleaned
        done = run(job, code=None)
        assert done.code in (0, 3, 4), done.out
        held = files(job.folder)
        assert known <= held.keys() and all(held[name] == data for name, data in own.items())
        known |= held.keys()
        if done.code and edits.chance.random() < 0.8:
            edits.rows = before  # as people do, mostly
        if done.code == 0:
            ran += 1
            fresh = Program(job.folder.parent / f"fresh{ran}")
            shutil.copytree(job.folder / "in", fresh.folder / "in")
            (fresh.folder / "made").mkdir()
            (fresh.folder / "link").symlink_to("made")
            text = tomli_w.dumps({"step": edits.rows}).replace(str(job.folder), str(fresh.folder))
            write_job(fresh.folder, text)
            run(fresh)
            made = files(fresh.folder)
            assert all(held[name] == data for name, data in made.items())
            assert not cleaned & made.keys(), "what the edited job makes was cleaned away"
            shutil.rmtree(fresh.folder)
    assert ran > rounds // 2
    assert tomllib.loads((job.folder / "j.job.toml").read_text())
