"""Runs the program in forked children, with a call that changes files cut, failed or refused for want of room.

A line of JSON in, {words, folder, at, mode}, and one out, {code, calls, said}; a killed child has the negative number
of its signal.
"""

from __future__ import annotations

import atexit
import ctypes
import json
import os
import sys
from pathlib import Path

import zembrel.cli


def child(words: list[str], folder: str, at: int, mode: int, report: int) -> None:
    faults = ctypes.CDLL(None)
    os.chdir(folder)
    said = os.open(f"{folder}.said", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
    os.dup2(said, 1)
    os.dup2(said, 2)
    sys.argv = ["zembrel", *words]
    faults.fault_arm(ctypes.c_long(at), mode, os.fsencode(folder) + b"/")
    try:
        code = zembrel.cli.main()
    except SystemExit as exc:
        code = exc.code
    sys.stdout.flush()
    calls = faults.fault_count()
    faults.fault_arm(ctypes.c_long(0), 0, b"")
    os.write(report, f"{calls}".encode())
    atexit._run_exitfuncs()
    os._exit(int(code or 0))


def main() -> None:
    """The first lines, up to an empty one, are runs that load what the others need."""
    for line in sys.stdin:
        if not line.strip():
            break
        asked = json.loads(line)
        os.chdir(asked["folder"])
        if zembrel.cli.guarded(asked["words"]):
            sys.exit(f"{asked} failed")
    for line in sys.stdin:
        asked = json.loads(line)
        read, write = os.pipe()
        process = os.fork()
        if not process:
            child(asked["words"], asked["folder"], asked["at"], asked["mode"], write)
        os.close(write)
        calls = os.read(read, 100)
        os.close(read)
        code = os.waitstatus_to_exitcode(os.waitpid(process, 0)[1])
        said = Path(f"{asked['folder']}.said").read_text(errors="replace")
        print(json.dumps({"code": code, "calls": int(calls or 0), "said": said}), flush=True)


main()
