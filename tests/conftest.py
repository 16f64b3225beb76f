"""What all tests share: the installed program in a folder of its own, and the demo data."""

from __future__ import annotations

import fcntl
import gc
import os
import threading
import zlib
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import settings

import depth
from program import Program

settings.register_profile("steady", deadline=None, max_examples=20, derandomize=True)
settings.register_profile("deep", deadline=None, max_examples=60 * depth.TIMES, derandomize=True)
settings.load_profile("deep" if depth.ASKED else "steady")


gc.disable()  # until all tests are found: what is made until then stays
gc.set_threshold(100_000, 20, 20)  # as the program does


def pytest_collection_finish() -> None:
    gc.collect()
    gc.freeze()
    gc.enable()


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


DEMO = ("demo", "--out", "demo", "--data-only", "--json")
Shared = Callable[[str, Callable[[Path], None]], Path]


@contextmanager
def alone(base: Path, name: str) -> Iterator[bool]:
    """While nobody else may fill a folder of `base`: whether it is still to be filled."""
    with (base / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield not (base / name).exists()


@pytest.fixture(scope="session")
def base(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of all processes of this run."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


@pytest.fixture(scope="session")
def shared(base: Path) -> Shared:
    """A folder of a name that one of the processes fills, and all of them read."""

    def folder(name: str, fill: Callable[[Path], None]) -> Path:
        with alone(base, name) as empty:
            if empty:
                (base / f"{name}.part").mkdir()
                fill(base / f"{name}.part")
                (base / f"{name}.part").rename(base / name)
        return base / name

    return folder


@pytest.fixture(scope="session", autouse=True)
def _demo_ahead(base: Path) -> Iterator[None]:
    """The first process begins to make the demo data, so that it is there when tests need it."""
    if os.environ.get("PYTEST_XDIST_WORKER") != "gw0" or depth.ASKED:
        yield
        return
    held = ExitStack()
    if not held.enter_context(alone(base, "marrowick")):  # another process was sooner
        held.close()
        yield
        return
    part = base / "marrowick.part"
    part.mkdir()
    process = Program(part).begun(*DEMO)  # here, before a test changes the environment

    def finish() -> None:
        with held:
            (part / "demo.json").write_text(Program(part).said_by(process).out)
            part.rename(base / "marrowick")

    ending = threading.Thread(target=finish)
    ending.start()
    yield
    ending.join()


@pytest.fixture(scope="session")
def marrowick(shared: Shared) -> Path:
    """The demo data, made once by the installed program. Read only: write elsewhere."""

    def fill(folder: Path) -> None:
        (folder / "demo.json").write_text(Program(folder).apart(*DEMO).out)

    return shared("marrowick", fill) / "demo"
