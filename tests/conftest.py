"""What all tests share: the installed program in a folder of its own, and the demo data."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import settings

from program import Program

settings.register_profile("steady", deadline=None, max_examples=60, derandomize=True)
settings.load_profile("steady")


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
        said = Program(folder)("demo", "--out", "demo", "--data-only", "--json")
        (folder / "demo.json").write_text(said.out)

    return shared("marrowick", fill) / "demo"
