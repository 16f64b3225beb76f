"""The installed program, run as its users run it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import dataclass
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
        """Run `zembrel WORDS`; the exit code must be `code`, unless that is None."""
        done = subprocess.run(
            [sys.executable, "-m", "zembrel", *map(str, words)],
            cwd=self.folder, input=stdin, capture_output=True, text=True, timeout=300,
            env=os.environ | {"XDG_CONFIG_HOME": str(self.folder)} | environment,
        )  # fmt: skip
        if code is not None:
            assert done.returncode == code, done.stdout + done.stderr
        assert "Traceback" not in done.stderr
        return Said(done.returncode, done.stdout, done.stderr)

    def refuses(self, code: int, *words: object) -> tuple[str, str, str]:
        """The three lines of an error with exit `code`; nothing new may stand in the folder after it."""
        before = listing(self.folder)
        said = self(*words, code=code)
        assert listing(self.folder) == before
        lines = said.err.splitlines()
        assert [line[:7] for line in lines] == ["error: ", "why:   ", "try:   "], said.err
        return lines[0][7:], lines[1][7:], lines[2][7:]


def listing(folder: Path) -> dict[Path, int]:
    """Every file under `folder` and its size, hidden ones too."""
    return {path: path.stat().st_size for path in folder.rglob("*") if path.is_file()}
