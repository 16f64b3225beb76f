"""Where a newcomer starts."""

from __future__ import annotations

from zembrel.verbtable.record import SHELL, Verb
from zembrel.verbtable.shared import MADE, NO_LAYERS

VERBS = (
    Verb(
        "standin serve",
        "a server with the island behind every kind of service",
        work="serve.serve",
        about="[FOLDER]: a server with the island of the demo data behind every kind of service, until "
        "it is interrupted. What goes wrong there is also set by its address /faults?fail=0.2.",
        example="zembrel standin serve demo/ --port 8046",
        words=("[FOLDER]",),
        without=(*NO_LAYERS, "out"),
        called=SHELL,
    ),
    Verb(
        "warm",
        "compile all kernels once",
        work="warm.warm",
        about="Compile the kernels of all verbs, on all processors, so that no first use waits for it: "
        "after an installation, or in a container.",
        example="zembrel warm --workers 2",
        without=(*MADE, "provenance", "out", "replace", "dry_run", "memory", "cluster"),
        called=SHELL,
    ),
    Verb(
        "shell",
        "completion for bash, zsh and fish, and manual pages",
        work="zembrel.cli.shells.shell",
        about="bash, zsh or fish: the script with which that shell completes verbs, options, CRSs, "
        "bands, sources and steps of jobs. man: the manual pages, into the folder --out.",
        example="zembrel shell bash > ~/.local/share/bash-completion/completions/zembrel",
        words=("bash|zsh|fish|man",),
        without=NO_LAYERS,
        needs_out=False,
        called=SHELL,
    ),
    Verb(
        "demo",
        "the Isle of Marrowick: demo data and a worked example",
        work="zembrel.cli.tour.demo",
        about="Make the data of the invented Isle of Marrowick in a folder and run the worked example "
        "there, each command printed before it runs.",
        example="zembrel demo --out demo/",
        without=NO_LAYERS,
        called=SHELL,
    ),
)
