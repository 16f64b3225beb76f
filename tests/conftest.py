"""What all tests share: the installed program in a folder of its own, and the demo data."""

from __future__ import annotations

import fcntl
import os
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import settings

import depth
from program import Program

settings.register_profile("steady", deadline=None, max_examples=60, derandomize=True)
settings.register_profile("deep", deadline=None, max_examples=60 * depth.TIMES)
settings.load_profile("deep" if depth.ASKED else "steady")


def pytest_xdist_auto_num_workers() -> int:
    """One more than processors: some tests wait."""
    return (os.cpu_count() or 1) + 1


@pytest.fixture(scope="session", autouse=True)
def _swift_disk() -> Iterator[None]:
    """Nobody pulls the plug here: what is run inside this process does not wait for the disk."""
    with mock.patch("os.fsync"):
        yield


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """The suite leaves out what is deep; `make deep` runs that, and properties with more examples."""
    number, count = depth.part()

    def wanted(item: pytest.Item) -> bool:
        long = item.get_closest_marker("deep") is not None
        if not depth.ASKED:
            return not long
        more = getattr(getattr(item, "obj", None), "is_hypothesis_test", False)
        return (long or more) and zlib.crc32(item.nodeid.encode()) % count == number

    left_out = [item for item in items if not wanted(item)]
    items[:] = [item for item in items if wanted(item)]
    config.hook.pytest_deselected(items=left_out)


@pytest.fixture
def zembrel(tmp_path: Path) -> Program:
    return Program(tmp_path)


Shared = Callable[[str, Callable[[Path], None]], Path]


@pytest.fixture(scope="session")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Shared:
    """A folder of a name that one of the processes fills, and all of them read."""
    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base

    def folder(name: str, fill: Callable[[Path], None]) -> Path:
        with (base / f"{name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not (base / name).exists():
                (base / f"{name}.part").mkdir()
                fill(base / f"{name}.part")
                (base / f"{name}.part").rename(base / name)
        return base / name

    return folder


@pytest.fixture(scope="session")
def marrowick(shared: Shared) -> Path:
    """The demo data, made once by the program itself. Read only: write elsewhere."""

    def fill(folder: Path) -> None:
        said = Program(folder).apart("demo", "--out", "demo", "--data-only", "--json")
        (folder / "demo.json").write_text(said.out)

    return shared("marrowick", fill) / "demo"
