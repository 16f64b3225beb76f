"""Where a newcomer starts."""

from __future__ import annotations

from zembrel.verbtable.record import SHELL, Verb
from zembrel.verbtable.shared import MADE, NO_LAYERS

VERBS = (
    Verb(
        "standin serve",
        "serve the demo island over all kinds of service",
        function="serve.serve",
        help="Serve the demo data over every kind of service until interrupted. The address "
        "/faults?fail=0.2 changes the simulated faults.",
        example="zembrel standin serve demo/ --port 8046",
        arguments=("[FOLDER]",),
        ignored_options=(*NO_LAYERS, "out"),
        callers=SHELL,
    ),
    Verb(
        "warm",
        "compile all kernels once",
        function="warm.warm",
        help="Compile the kernels of all verbs in advance, for example after an installation or in a "
        "container.",
        example="zembrel warm --workers 2",
        ignored_options=(*MADE, "provenance", "out", "replace", "dry_run", "memory", "cluster"),
        callers=SHELL,
    ),
    Verb(
        "shell",
        "set up shell completion, or write manual pages",
        function="zembrel.cli.shells.shell",
        help="bash, zsh or fish: print a script that completes verbs, options, CRSs, bands, sources "
        "and job steps. man: write the manual pages to the folder --out.",
        example="zembrel shell bash > ~/.local/share/bash-completion/completions/zembrel",
        arguments=("bash|zsh|fish|man",),
        ignored_options=NO_LAYERS,
        needs_out=False,
        callers=SHELL,
    ),
    Verb(
        "demo",
        "make the demo data and run a worked example",
        function="zembrel.cli.tour.demo",
        help="Make the data of the invented Isle of Marrowick in a folder and run the worked example "
        "there. Each command is printed before it runs.",
        example="zembrel demo --out demo/",
        ignored_options=NO_LAYERS,
        callers=SHELL,
    ),
)
