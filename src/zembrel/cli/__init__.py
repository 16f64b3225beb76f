"""The command line: Typer commands, help, progress, receipts, error lines and exit codes."""

from __future__ import annotations

import gc
import os
import sys
from typing import Any

from zembrel.cli import signals, streams

INTERRUPTED, TERMINATED, BUG = 130, 143, 70


def main() -> None:
    """Run the command line and leave with its exit code."""
    signals.end_at_once()  # until somebody can answer
    gc.set_threshold(100_000, 20, 20)  # importing makes many objects and hardly any cycle
    # Numba would look for BLAS by importing SciPy's linear algebra, where there is SciPy; no kernel needs it.
    sys.modules["scipy.linalg.cython_blas"] = None  # type: ignore[assignment]
    code = ended(sys.argv[1:])
    signals.end_at_once()
    gc.freeze()  # the process ends: nobody needs to look for cycles among Numba's objects, for 0.3 s
    sys.exit(code)


def ended(arguments: list[str]) -> int:
    """Do what is asked for, with streams that may be closed or full; the exit code."""
    streams.make_safe()
    if "ZEMBREL_COMPLETE" in os.environ:
        from zembrel.cli.completing import answered

        return int(not answered(arguments))
    return streams.settle(guarded(arguments))


def guarded(arguments: list[str]) -> int:
    """Run, and turn whatever stops it into a message and an exit code."""
    from typer.exceptions import TyperException

    from zembrel.cli.commands import command_line
    from zembrel.cli.grammar import check_words
    from zembrel.clock import time_of_writing
    from zembrel.errors import ZembrelError

    try:
        signals.unwind()
        check_words(arguments)
        time_of_writing()  # refuses a SOURCE_DATE_EPOCH that is not numeric, before a library fails on it
        code = int(command_line().main(arguments, prog_name="zembrel", standalone_mode=False) or 0)
        # the command-line package makes 130 of an interrupt
        return code if code != INTERRUPTED else _stopped("interrupted", INTERRUPTED)
    except ZembrelError as exc:
        return _say(exc, arguments)
    except TyperException as exc:
        from zembrel.cli.grammar import as_usage_error

        return _say(as_usage_error(exc), arguments)
    except MemoryError:
        from zembrel.errors import out_of_memory

        return _say(out_of_memory(0), arguments)
    except KeyboardInterrupt:
        return _stopped("interrupted", INTERRUPTED)
    except signals.Terminated:
        return _stopped("terminated", TERMINATED)
    except BrokenPipeError:
        return 0
    except Exception as exc:
        from zembrel.cli.report import bug

        return bug(exc, arguments, BUG)


def _say(error: Any, arguments: list[str]) -> int:
    from zembrel.cli.report import show_error

    show_error(error, "--json" in arguments)
    return int(error.exit_code)


def _stopped(word: str, code: int) -> int:
    print(f"\n{word}; nothing half-written remains", file=sys.stderr)
    return code
