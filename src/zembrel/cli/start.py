"""Where a newcomer starts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.errors import UsageError, nearest_name
from zembrel.verbs.options import Output


def demo(
    output: Output,
    data_only: Annotated[bool, typer.Option("--data-only", help="Make the data, run no example.")] = False,
) -> Any:
    """Make the data of the invented Isle of Marrowick in a folder and run the worked example there,
    each command printed before it runs."""
    from zembrel.cli.tour import run_tour
    from zembrel.verbs import demo as verb

    receipt = verb.demo(output)
    if not data_only:
        run_tour(Path(receipt.facts["out"]))
    return receipt


def warm(output: Output) -> Any:
    """Compile the kernels of all verbs, on all processors, so that no first use waits for it: after an
    installation, or in a container."""
    from zembrel.verbs import warm as verb

    return verb.warm(output)


def shell(output: Output, words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None) -> Any:
    """bash, zsh or fish: the script with which that shell completes verbs, options, CRSs, bands, sources and
    steps of jobs. man: the manual pages, into the folder --out."""
    from zembrel.cli.shells import SCRIPTS, manual_pages, script_for
    from zembrel.engine.commit import Staging, resource_errors
    from zembrel.verbs.receipt import Receipt, Result

    asked = (words or [""])[0]
    if len(words or []) != 1 or asked not in (*SCRIPTS, "man"):
        what = f"zembrel shell {' '.join(words or [])}".rstrip()
        raise UsageError(
            what, "one of bash, zsh, fish and man is needed", nearest_name(asked, (*SCRIPTS, "man"))
        )
    if asked != "man":
        return Receipt("shell", data=script_for(asked))
    folder, pages = output.path, dict(manual_pages())
    with Staging(replace=True) as staging:
        for name, text in pages.items():
            with resource_errors(folder / name):
                staging.write_text(folder / name, text)
        staging.publish()
    size = sum(len(text.encode()) for text in pages.values())
    result = Result(folder, size, files=len(pages), seconds=output.seconds)
    return Receipt("shell", out=output.out, results=(result,))


COMMANDS = {
    "shell": Command(shell, "zembrel shell bash > ~/.local/share/bash-completion/completions/zembrel"),
    "demo": Command(demo, "zembrel demo --out demo/"),
    "warm": Command(warm, "zembrel warm --workers 2"),
}
