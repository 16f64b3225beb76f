"""What all tests share: the installed program in a folder of its own, and the demo data."""

from __future__ import annotations

import fcntl
import os
import threading
import zlib
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import settings

import depth
from program import Program

settings.register_profile("steady", deadline=None, max_examples=60, derandomize=True)
settings.register_profile("deep", deadline=None, max_examples=60 * depth.TIMES, derandomize=True)
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
    # those on the demo data come last: it is made meanwhile
    items[:] = sorted(
        filter(wanted, items), key=lambda item: "marrowick" in getattr(item, "fixturenames", ())
    )
    config.hook.pytest_deselected(items=left_out)


@pytest.fixture
def zembrel(tmp_path: Path) -> Program:
    return Program(tmp_path)


Shared = Callable[[str, Callable[[Path], None]], Path]


def once(base: Path, name: str, fill: Callable[[Path], None]) -> Path:
    """A folder of `base`, filled by whoever comes first."""
    with (base / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (base / name).exists():
            (base / f"{name}.part").mkdir()
            fill(base / f"{name}.part")
            (base / f"{name}.part").rename(base / name)
    return base / name


def make_demo(folder: Path) -> None:
    """The demo data, made by the installed program."""
    said = Program(folder).apart("demo", "--out", "demo", "--data-only", "--json")
    (folder / "demo.json").write_text(said.out)


@pytest.fixture(scope="session")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Shared:
    """A folder of a name that one of the processes fills, and all of them read."""
    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    return partial(once, base)


@pytest.fixture(scope="session", autouse=True)
def _demo_ahead(shared: Shared) -> Iterator[None]:
    """The first process has the demo data made while other tests run."""
    making = threading.Thread(target=shared, args=("marrowick", make_demo), daemon=True)
    if os.environ.get("PYTEST_XDIST_WORKER") == "gw0" and not depth.ASKED:
        making.start()
    yield


@pytest.fixture(scope="session")
def marrowick(shared: Shared) -> Path:
    """The demo data, made once by the program itself. Read only: write elsewhere."""
    return shared("marrowick", make_demo) / "demo"
