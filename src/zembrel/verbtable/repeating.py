"""Verbs that do it again."""

from __future__ import annotations

from zembrel.verbtable.record import RUNS, Verb
from zembrel.verbtable.shared import MADE, NO_LAYERS

VERBS = (
    Verb(
        "run",
        "run a job file, repeating only steps that changed",
        function="run.run",
        help="Run the steps of a job file (NAME.job.toml) whose inputs or options have changed. "
        "Paths are relative to the job file. --dry-run shows which steps would run, and why.",
        example="zembrel run island.job.toml --dry-run",
        arguments=("JOB",),
        ignored_options=tuple(name for name in (*MADE, "provenance", "out") if name != "keep_going"),
        synonyms=("job", "workflow", "pipeline", "batch"),
        callers=RUNS,
    ),
    Verb(
        "receipt",
        "show the record of a run as a web page",
        function="receiptfile.receipt",
        help="Write the record of a run as a web page: the choices, checks and inputs, and images of "
        "the results. JOB shows the last run of each step; RECEIPT is a file written by --json.",
        example="zembrel receipt island.job.toml --out island.html",
        arguments=("JOB|RECEIPT",),
        ignored_options=NO_LAYERS,
        callers=RUNS,
    ),
)
