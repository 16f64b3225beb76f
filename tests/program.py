"""The installed program, run as its users run it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class Said:
    """How a run of the program ended and what it said."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@dataclass(frozen=True)
class Program:
    """The installed program in a folder of its own."""

    folder: Path

    def __call__(self, *words: object, code: int | None = 0, stdin: str = "", **environment: str) -> Said:
        """Run `zembrel WORDS`; the exit code must be `code`, unless that is None.

        With an environment of its own the process is a fresh one, else a fork of one that is loaded already.
        """
        settings = os.environ | {"XDG_CONFIG_HOME": str(self.folder)} | environment
        run = self._fresh if environment else self._forked
        said = run([*map(str, words)], stdin, settings)
        if code is not None:
            assert said.code == code, said.out + said.err
        assert "Traceback" not in said.err
        return said

    def _fresh(self, words: list[str], stdin: str, settings: dict[str, str]) -> Said:
        done = subprocess.run(
            [sys.executable, "-m", "zembrel", *words],
            cwd=self.folder, input=stdin, capture_output=True, text=True, timeout=300, env=settings,
        )  # fmt: skip
        return Said(done.returncode, done.stdout, done.stderr)

    def _forked(self, words: list[str], stdin: str, settings: dict[str, str]) -> Said:
        with tempfile.TemporaryDirectory() as name:
            given, *told = (Path(name) / stream for stream in ("stdin", "stdout", "stderr"))
            given.write_text(stdin, encoding="utf-8")
            run = {"folder": str(self.folder), "words": words, "environment": settings, "stdin": str(given),
                   "told": [*map(str, told)], "timeout": 300}  # fmt: skip
            nursery = _nursery()
            assert nursery.stdin is not None and nursery.stdout is not None
            nursery.stdin.write(json.dumps(run) + "\n")
            nursery.stdin.flush()
            code = int(nursery.stdout.readline())
            return Said(code, *(path.read_text(encoding="utf-8") for path in told))

    def refuses(self, code: int, *words: object) -> tuple[str, str, str]:
        """The three lines of an error with exit `code`; nothing new may stand in the folder after it."""
        before = listing(self.folder)
        said = self(*words, code=code)
        assert listing(self.folder) == before
        # a machine may compile the kernels of a run at any first use, and says so
        lines = [line for line in said.err.splitlines() if not line.startswith("note:  compiling kernels")]
        assert [line[:7] for line in lines] == ["error: ", "why:   ", "try:   "], said.err
        return lines[0][7:], lines[1][7:], lines[2][7:]


@cache
def _nursery() -> subprocess.Popen[str]:
    """The process that forks the program, one for each process of tests."""
    return subprocess.Popen(
        [sys.executable, str(Path(__file__).with_name("nursery.py"))],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip


def listing(folder: Path) -> dict[Path, int]:
    """Every file under `folder` and its size, hidden ones too."""
    return {path: path.stat().st_size for path in folder.rglob("*") if path.is_file()}
