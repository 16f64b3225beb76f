"""What all tests share: the installed program in a folder of its own, and the demo data."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import settings

from program import Program

settings.register_profile("steady", deadline=None, max_examples=60, derandomize=True)
settings.load_profile("steady")


@pytest.fixture
def zembrel(tmp_path: Path) -> Program:
    return Program(tmp_path)


@pytest.fixture(scope="session")
def marrowick(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo data, made once by the program itself. Read only: write elsewhere."""
    folder = tmp_path_factory.mktemp("marrowick")
    Program(folder)("demo", "--out", "demo", "--data-only")
    return folder / "demo"
