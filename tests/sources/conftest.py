"""A program whose answers are kept in its own folder, and the island's server."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from program import Program
from sources.island import Site, site


@pytest.fixture
def program(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Program:
    monkeypatch.setenv("ZEMBREL_CACHE", str(tmp_path.with_name(f"{tmp_path.name}-kept")))
    monkeypatch.setenv("NO_PROXY", "127.0.0.1")
    return Program(tmp_path)


@pytest.fixture(scope="module")
def server() -> Iterator[Site]:
    with site() as found:
        yield found


@pytest.fixture
def island(server: Site) -> Iterator[Site]:
    server.calm()
    yield server
    server.calm()
