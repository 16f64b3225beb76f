"""Jobs: steps in one pass against the same apart, plans of many steps, and many results that are tracked."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from concurrent import futures
from contextlib import chdir
from pathlib import Path

from measure import ZEMBREL, Result, used
from scene import write_scene
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.jobruns.runner import Runner
from zembrel.jobruns.stepping import Ended, Setting
from zembrel.jobs.chains import Chain, chains_of
from zembrel.jobs.contents import mark_of
from zembrel.jobs.jobfile import read_job
from zembrel.jobs.state import JobState
from zembrel.progress import Tick, no_tick
from zembrel.verbs.run import TABLE

FUSED, PLAN, TRACKED = 1 / 1.6, 3.0, 1.25
SIDE, SHEETS, STEPS, FILES = 8_000, 2_000, 1_000, 100
CLIP = ("clip", "photo.tif", "--within", "730500,5096500,733500,5099500")
ONE = """
[[step]]
id = "part"
verb = "clip"
inputs = "photo.tif"
within = "730500,5096500,733500,5099500"
[[step]]
id = "web"
verb = "reproject"
inputs = "@part"
crs = "EPSG:3857"
[[step]]
id = "sheets"
verb = "tile"
inputs = "@web"
cells = 1024
out = "fused/"
"""
MANY = """
[matrix]
sheet = "sheets/*.tif"
[[step]]
id = "slope"
verb = "terrain"
inputs = "$sheet"
of = "slope"
out = "slope/$sheet_name.tif"
[[step]]
id = "whole"
verb = "mosaic"
inputs = "@slope*"
out = "whole.tif"
"""


def cases(folder: Path) -> Iterator[Result]:
    """Figures of jobs."""
    yield _fused(folder)
    yield _planned(folder)
    yield from _tracked(folder)


def _fused(folder: Path) -> Result:
    where = Frame(by_code(32626), Affine(730_000.0, 5_100_000.0, 0.5, -0.5), SIDE, SIDE)
    write_scene(folder / "photo.tif", where)
    (folder / "one.job.toml").write_text(ONE)
    apart = (
        (*CLIP, "--out", "part.tif"), ("reproject", "part.tif", "--crs", "EPSG:3857", "--out", "web.tif"),
        ("tile", "web.tif", "--cells", "1024", "--out", "apart/"),
    )  # fmt: skip
    times: list[tuple[float, float]] = []
    for _ in range(4):  # the first one warms what is compiled and read
        for name in ("fused", "apart", "one.state.sqlite", "part.tif", "web.tif"):
            path = folder / name
            shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
        one = used([*ZEMBREL, "run", "one.job.toml", "--quiet"], folder).seconds
        three = sum(used([*ZEMBREL, *words, "--quiet"], folder).seconds for words in apart)
        times.append((one, three))
    fused, separate = min(one for one, _ in times[1:]), min(three for _, three in times[1:])
    note = f"{fused:.1f} s against {separate:.1f} s"
    return Result(
        "clip, reproject and tile in one pass, to the same apart", fused / separate, FUSED, note=note
    )


def _planned(folder: Path) -> Result:
    (folder / "sheets").mkdir()
    where = Frame(by_code(32626), Affine(730_000.0, 5_100_000.0, 5.0, -5.0), 60, 60)
    write_scene(folder / "sheet.tif", where)
    for n in range(SHEETS):
        shutil.copy(folder / "sheet.tif", folder / f"sheets/s{n}.tif")
    (folder / "many.job.toml").write_text(MANY)
    plan = [*ZEMBREL, "run", "many.job.toml", "--dry-run", "--quiet"]
    seconds = min(used(plan, folder).seconds for _ in range(3))
    return Result(f"plan of {SHEETS:,} sheets, seconds", seconds, PLAN, "s")


class _Writing:
    """Whoever makes files as fast as that goes, instead of verbs."""

    most = 1

    def start(self, chain: Chain, setting: Setting, tick: Tick) -> futures.Future[Ended]:
        out = chain.step.out or ""
        Path(out).mkdir(parents=True, exist_ok=True)
        written = []
        for n in range(FILES):
            path = f"{out.rstrip('/')}/{n}"
            with open(path, "w", encoding="utf-8") as file:  # noqa: PTH123
                file.write(path)
            mark = mark_of(path)
            assert mark is not None
            written.append((path, mark))
        ended: futures.Future[Ended] = futures.Future()
        ended.set_result(Ended((_Receipt(),), (), tuple(written)))  # type: ignore[arg-type]
        return ended


class _Receipt:
    exit_code = 0
    verb = "tile"
    facts: dict[str, str] = {}  # noqa: RUF012


def _tracked(folder: Path) -> Iterator[Result]:
    values = ", ".join(str(n) for n in range(STEPS))
    (folder / "t.job.toml").write_text(
        f'[matrix]\nn = [{values}]\n[[step]]\nid = "t"\nverb = "tile"\ninputs = "sheet.tif"\nsplit = "1x1"\n'
        'out = "tracked/$n/"\n'
    )
    with chdir(folder):
        job = read_job(Path("t.job.toml"), TABLE)
        outs = {step.id: step.out or "" for step in job.steps}
        times: list[float] = []

        def said(end: object, number: int, of: int) -> None:
            times.append(time.perf_counter())

        for turn in ("first", "again"):
            state = JobState(Path("t.state.sqlite"))
            times.clear()
            runner = Runner(
                state, TABLE, Path(), Setting(outs, {}), _Writing(), lambda id: False, no_tick, said
            )
            begun = time.perf_counter()
            runner.run(chains_of(job, TABLE))
            seconds = time.perf_counter() - begun
            state.close()
            if turn == "first":
                tenth = STEPS // 10
                early, late = times[2 * tenth] - times[tenth], times[-1] - times[-1 - tenth]
                note = f"{STEPS * FILES:,} results in {seconds:.1f} s"
                yield Result("the last tenth of them, to the second", late / early, TRACKED, note=note)
            else:
                yield Result(f"{STEPS * FILES:,} results that stand, seconds", seconds, PLAN, "s")
