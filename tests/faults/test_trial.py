"""Libraries that never come back, or take the process with them, cost an error and no more."""

from __future__ import annotations

import lzma
import os
import signal
import time
from pathlib import Path

import pytest

from program import Program
from zembrel import trial


def test_a_file_that_keeps_the_library_busy_is_refused(
    zembrel: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Found by `make fuzz`: a changed byte of the list of references makes HDF5 count without an end."""
    monkeypatch.setattr(trial, "_SECONDS", 3)
    packed = Path(__file__).parent / "found" / "busy.nc.xz"
    (zembrel.folder / "busy.nc").write_bytes(lzma.decompress(packed.read_bytes()))
    what, why, _ = zembrel.refuses(3, "describe", "busy.nc")
    assert "busy.nc is no sound" in what and "keeps the library busy" in why


def test_what_ends_the_process_or_has_no_end_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(trial, "_SECONDS", 2)
    assert "SIGABRT" in str(trial.fault_of(os.abort))
    assert "SIGSEGV" in str(trial.fault_of(lambda: os.kill(os.getpid(), signal.SIGSEGV)))
    begun = time.monotonic()
    assert "busy" in str(trial.fault_of(lambda: time.sleep(60)))
    assert time.monotonic() - begun < 20


def test_all_else_is_left_to_the_one_who_asks(capfd: pytest.CaptureFixture[str]) -> None:
    assert trial.fault_of(lambda: os.write(1, b"said")) is None
    assert trial.fault_of(lambda: 1 / 0) is None
    assert trial.fault_of(lambda: bytearray(trial._MEMORY * 2)) is None  # which finds no memory
    assert capfd.readouterr() == ("", "")
