"""The program, run as its users run it: with its words, in a folder, with streams and an environment."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NoReturn
from unittest import mock

from zembrel.cli import ended

SECONDS = 300  # a run may take
# which `make lowest` sets to the one of an environment with the lowest versions
INSTALLED = os.environ.get("ZEMBREL_PROGRAM", str(Path(sys.executable).with_name("zembrel")))


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
    """The program in a folder of its own."""

    folder: Path

    def __call__(self, *words: object, code: int | None = 0, stdin: str = "", **environment: str) -> Said:
        """Run `zembrel WORDS` in this process; the exit code must be `code`, unless that is None."""
        return self._checked(_inside(list(map(str, words)), self.folder, stdin, self._all(environment)), code)

    def apart(self, *words: object, code: int | None = 0, stdin: str = "", **environment: str) -> Said:
        """The same through the installed program, as a process of its own."""
        return self.said_by(self.begun(*words, **environment), code, stdin)

    def begun(self, *words: object, **environment: str) -> subprocess.Popen[str]:
        """A process of the installed program, which goes on by itself."""
        pipe = subprocess.PIPE
        return subprocess.Popen(
            [INSTALLED, *map(str, words)],
            cwd=self.folder, stdin=pipe, stdout=pipe, stderr=pipe, text=True, env=self._all(environment),
        )  # fmt: skip

    def said_by(self, process: subprocess.Popen[str], code: int | None = 0, stdin: str = "") -> Said:
        """How a process ended; it is waited for."""
        try:
            out, err = process.communicate(stdin, SECONDS)
        except BaseException:
            process.kill()
            raise
        return self._checked(Said(process.returncode, out, err), code)

    def _all(self, environment: dict[str, str]) -> dict[str, str]:
        return os.environ | {"XDG_CONFIG_HOME": str(self.folder)} | environment

    def _checked(self, said: Said, code: int | None) -> Said:
        if code is not None:
            assert said.code == code, said.out + said.err
        assert "Traceback" not in said.err
        return said

    def refuses(self, code: int, *words: object) -> tuple[str, str, str]:
        """The three lines of an error with exit `code`; nothing new may stand in the folder after it."""
        before = listing(self.folder)
        said = self(*words, code=code)
        assert listing(self.folder) == before
        # a machine may compile the kernels of a run at any first use, and says so
        lines = [line for line in said.err.splitlines() if not line.startswith("note:  compiling kernels")]
        assert [line[:7] for line in lines] == ["error: ", "why:   ", "try:   "], said.err
        return lines[0][7:], lines[1][7:], lines[2][7:]


def _inside(words: list[str], folder: Path, stdin: str, environment: dict[str, str]) -> Said:
    """Run the program in this process, with real files as its standard streams."""
    with (
        tempfile.TemporaryFile("w+", encoding="utf-8") as given,
        tempfile.TemporaryFile("w+", encoding="utf-8") as out,
        tempfile.TemporaryFile("w+", encoding="utf-8") as err,
    ):
        given.write(stdin)
        given.seek(0)
        with (
            _standard(given.fileno(), out.fileno(), err.fileno()),
            _signals(),
            mock.patch.dict(os.environ, environment, clear=True),
            mock.patch.object(sys, "argv", ["zembrel", *words]),
            mock.patch.object(sys, "unraisablehook"),
            mock.patch.dict(
                "zembrel.owned._swept", clear=True
            ),  # of earlier runs, which were other processes
            contextlib.chdir(folder),
        ):
            code = ended(words)
            sys.stdout.flush()
            sys.stderr.flush()
        out.seek(0)
        err.seek(0)
        return Said(code, out.read(), err.read())


@contextlib.contextmanager
def _standard(*numbers: int) -> Iterator[None]:
    """Let these files be the standard input, output and error, below Python and in it."""
    before = sys.stdin, sys.stdout, sys.stderr
    for stream in before[1:]:
        stream.flush()
    kept = [os.dup(number) for number in range(3)]
    for number, file in enumerate(numbers):
        os.dup2(file, number)
    sys.stdin = os.fdopen(0, encoding="utf-8", closefd=False)
    sys.stdout, sys.stderr = (os.fdopen(number, "w", encoding="utf-8", closefd=False) for number in (1, 2))
    try:
        yield
    finally:
        sys.stdin, sys.stdout, sys.stderr = before
        for number, file in enumerate(kept):
            os.dup2(file, number)
            os.close(file)


@contextlib.contextmanager
def _signals() -> Iterator[None]:
    """Give back the answers to signals, and end a run that takes too long."""
    numbers = signal.SIGINT, signal.SIGTERM, signal.SIGALRM
    before = [signal.getsignal(number) for number in numbers]
    signal.signal(signal.SIGALRM, _late)
    signal.alarm(SECONDS)
    try:
        yield
    finally:
        signal.alarm(0)
        for number, answer in zip(numbers, before, strict=True):
            signal.signal(number, answer)


def _late(*_: object) -> NoReturn:
    raise TimeoutError(f"a run takes more than {SECONDS} s")


def listing(folder: Path) -> dict[Path, int]:
    """Every file under `folder` and its size, hidden ones too."""
    return {path: path.stat().st_size for path in folder.rglob("*") if path.is_file()}
