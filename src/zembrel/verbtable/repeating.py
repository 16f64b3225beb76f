"""Verbs that do it again."""

from __future__ import annotations

from zembrel.verbtable.record import RUNS, Verb
from zembrel.verbtable.shared import MADE, NO_LAYERS

VERBS = (
    Verb(
        "run",
        "the steps of a job file, those alone that are due",
        work="run.run",
        about="JOB: run the steps of a job file (NAME.job.toml) of which something has changed, each "
        "once its inputs are made. Its paths are seen from its folder. --dry-run shows what would "
        "run, and why.",
        example="zembrel run island.job.toml --dry-run",
        words=("JOB",),
        without=tuple(name for name in (*MADE, "provenance", "out") if name != "keep_going"),
        synonyms=("job", "workflow", "pipeline", "batch"),
        called=RUNS,
    ),
    Verb(
        "receipt",
        "the record of a run as a page",
        work="receiptfile.receipt",
        about="JOB or RECEIPT: the record of a run as one page for a browser, with what was chosen, "
        "checked and read, and pictures of results. Of a job file, the last run of each step; "
        "else what a verb gave with --json.",
        example="zembrel receipt island.job.toml --out island.html",
        words=("JOB|RECEIPT",),
        without=NO_LAYERS,
        called=RUNS,
    ),
)
