"""Order, bounds, whole results and clean failures."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from rasters import frame, random_cells, raster, save
from zembrel.engine.commit import Staging
from zembrel.engine.executor import Threads
from zembrel.engine.limits import Limits
from zembrel.engine.plan import Plan
from zembrel.engine.run import run
from zembrel.errors import RefusedError, ResourceError
from zembrel.formats import load
from zembrel.formats.blockcache import BlockCache
from zembrel.grid.pane import Pane
from zembrel.handles import FileHandles
from zembrel.progress import Progress
from zembrel.raster.model import Band, Block


@pytest.mark.parametrize("workers", [1, 2, 5])
def test_results_come_in_order_with_a_bounded_number_in_flight(workers: int) -> None:
    lock, running, most = threading.Lock(), 0, 0
    taken = 0

    def task(pane: Pane) -> int:
        nonlocal running, most
        with lock:
            running, most = running + 1, max(most, running + 1)
        with lock:
            running -= 1
        return pane.top

    def panes() -> Iterator[Pane]:
        nonlocal taken
        for n in range(50):
            taken += 1
            yield Pane(n, 0, n + 1, 1)

    seen = []
    for result in Threads(workers, workers + 2).map(task, panes()):
        seen.append(result)
        assert taken - len(seen) <= workers + 2
    assert seen == list(range(50)) and most <= workers


def test_the_bytes_do_not_depend_on_the_number_of_workers(tmp_path: Path) -> None:
    source = raster(random_cells(3, 700, 500), random_cells(700, 500, seed=2) > 9)
    files = []
    for workers in (1, 2, 7):
        path = tmp_path / f"{workers}.tif"
        sink = load("geotiff").make_sink(path, source.frame, source.bands, {"tile": "64"})
        run(source, sink, Limits(workers=workers))
        files.append(path.read_bytes())
    assert files[0] == files[1] == files[2]


def test_progress_counts_real_cells_up_to_all_of_them(tmp_path: Path) -> None:
    ticks: list[Progress] = []
    source = raster(random_cells(100, 150))
    sink = load("geotiff").make_sink(tmp_path / "p.tif", source.frame, source.bands, {"tile": "32"})
    run(source, sink, Limits(tick=ticks.append))
    assert [tick.blocks for tick in ticks] == list(range(1, ticks[-1].all_blocks + 1))
    assert ticks[-1].cells == ticks[-1].all_cells == 100 * 150


class Failing:
    """A raster that breaks in the middle."""

    frame = frame(500, 500)
    bands = (Band("b", "uint8"),)

    def cells(self, pane: Pane) -> Block:
        if pane.top >= 128:
            raise ZeroDivisionError
        return Block(np.zeros((1, *pane.shape), np.uint8))


def test_a_failed_run_leaves_nothing(tmp_path: Path) -> None:
    with pytest.raises(ZeroDivisionError), Staging() as staging:
        path = staging.path_for(tmp_path / "half.tif")
        run(
            Failing(), load("geotiff").make_sink(path, Failing.frame, Failing.bands, {"tile": "32"}), Limits()
        )
    assert not list(tmp_path.iterdir())


def test_existing_results_are_kept_unless_replacing_is_asked(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("old")
    with pytest.raises(RefusedError, match="exists"), Staging() as staging:
        staging.write_text(tmp_path / "a.txt", "new")
    assert (tmp_path / "a.txt").read_text() == "old"
    with Staging(replace=True) as staging:
        staging.write_text(tmp_path / "a.txt", "new")
        staging.publish()
    assert (tmp_path / "a.txt").read_text() == "new"


def test_a_folder_that_cannot_be_made_is_a_resource_error(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(ResourceError, match="cannot be written"), Staging() as staging:
        staging.path_for(tmp_path / "file" / "deep" / "a.tif")


def test_a_plan_past_the_ceiling_names_the_command_that_would_go_on(tmp_path: Path) -> None:
    plan = Plan(frame(30_000, 30_000), (Band("b", "float64"),) * 2, tmp_path / "big.tif")
    assert plan.bytes_at_most == 30_000**2 * 16 * 4 // 3
    with pytest.raises(RefusedError) as caught:
        plan.check(10**9, "zembrel clip a.tif --out big.tif")
    assert caught.value.remedy == "zembrel clip a.tif --out big.tif --ceiling 20GB"
    with pytest.raises(RefusedError, match=r"21\.3 TB") as caught:
        Plan(frame(10**6, 10**6), (Band("b", "float64"),) * 2, tmp_path / "b.tif").check(10**15, "")
    assert "free" in caught.value.why


def test_a_block_is_decoded_once_however_many_want_it() -> None:
    cache, calls, start = BlockCache(10_000), [], threading.Barrier(6)

    def decode() -> Any:
        calls.append(1)
        return np.zeros(100, np.uint8)

    def want() -> None:
        start.wait()
        cache.get("key", decode)

    threads = [threading.Thread(target=want) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(calls) == 1


def test_the_cache_keeps_to_its_budget_and_forgets_the_oldest() -> None:
    cache, made = BlockCache(1000), []

    def block(key: int) -> Any:
        return cache.get(key, lambda: (made.append(key), np.zeros(400, np.uint8))[1])

    for key in (1, 2, 1, 3, 1, 2):
        block(key)
    assert made == [1, 2, 3, 2]
    with pytest.raises(ZeroDivisionError):
        cache.get(9, lambda: 1 / 0)
    assert cache.get(9, lambda: np.ones(1)) == 1, "a failure is not remembered"


def test_any_number_of_files_shares_a_bounded_number_of_handles(tmp_path: Path) -> None:
    paths = [tmp_path / f"{n}.bin" for n in range(40)]
    for n, path in enumerate(paths):
        path.write_bytes(bytes([n]) * 10)
    handles = FileHandles(most=4)
    for _ in range(2):
        for n, path in enumerate(paths):
            assert handles.read(path, 5, 2) == bytes([n]) * 2
        assert len(handles._open) <= 4


def test_sheets_beyond_the_handles_still_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from zembrel import handles
    from zembrel.formats import open_raster

    monkeypatch.setattr(handles.file_handles, "_most", 3)
    sheets = [save(tmp_path / f"{n}.tif", raster(random_cells(8, 8, seed=n))) for n in range(9)]
    opened = [open_raster(path) for path in sheets]
    for n, sheet in enumerate(opened):
        np.testing.assert_array_equal(sheet.cells(sheet.frame.pane).cells[0], random_cells(8, 8, seed=n))
