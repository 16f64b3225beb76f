"""Verbs that do it again."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.errors import UsageError
from zembrel.verbs.options import Output


def run(
    output: Output,
    words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None,
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="ID", help="This step, and what it needs if that is due; or more."),
    ] = None,
    start: Annotated[
        list[str] | None,
        typer.Option("--from", metavar="ID", help="This step and all after it, due or not; or more."),
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="All steps, due or not.")] = False,
    jobs: Annotated[int, typer.Option("--jobs", metavar="N", help="So many steps at once.")] = 1,
    settings: Annotated[
        list[str] | None,
        typer.Option("--set", metavar="NAME=VALUE", help="Another value for a variable of [set]; or more."),
    ] = None,
    figure: Annotated[
        str | None, typer.Option("--figure", metavar="PNG", help="The steps as a picture, and what is due.")
    ] = None,
    clean: Annotated[
        bool,
        typer.Option(
            "--clean", help="Run no step. List results that the job no longer makes, then remove them."
        ),
    ] = False,
) -> Any:
    """JOB: run the steps of a job file (NAME.job.toml) of which something has changed, each once its inputs
    are made. Its paths are seen from its folder. --dry-run shows what would run, and why."""
    from zembrel.verbs.jobs import run as verb

    given = words or []
    if len(given) != 1:
        what = f"{len(given)} job files" if given else "there is no job file"
        raise UsageError(what, "one is run", "write zembrel run island.job.toml")
    running = verb.Running(
        tuple(only or ()), tuple(start or ()), force, jobs, tuple(settings or ()), figure, clean
    )
    return verb.run(output, given[0], running)


def receipt(output: Output, words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None) -> Any:
    """JOB or RECEIPT: the record of a run as one page for a browser, with what was chosen, checked and read,
    and pictures of results. Of a job file, the last run of each step; else what a verb gave with --json."""
    from zembrel.cli.saying import say_facts
    from zembrel.verbs import receiptfile as verb

    given = words or []
    if len(given) != 1:
        what = f"{len(given)} records" if given else "there is no record"
        raise UsageError(
            what, "one becomes a page", "write zembrel receipt island.job.toml --out island.html"
        )
    return verb.receipt(output, given[0], say_facts)


COMMANDS = {
    "run": Command(run, "zembrel run island.job.toml --dry-run"),
    "receipt": Command(receipt, "zembrel receipt island.job.toml --out island.html"),
}
