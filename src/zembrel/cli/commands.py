"""The command tree: verbs are built when they are called for, not before."""

from __future__ import annotations

from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from zembrel.cli.kinds import HELP_FLAGS, Kinds, kinds_of
from zembrel.cli.style import WIDEST, heading
from zembrel.cli.values import convert_here
from zembrel.errors import UsageError, nearest_name
from zembrel.verbtable import STEPS, VERBS, hint
from zembrel.version import program_version


class Verbs(TyperGroup):
    """All verbs by the steps of the work."""

    def get_help_option(self, ctx: Any) -> Any:
        option = super().get_help_option(ctx)
        convert_here([option])
        return option

    def list_commands(self, ctx: Any) -> list[str]:
        return list(VERBS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name not in VERBS:
            return None
        from zembrel.cli.command import command_of

        return command_of(cmd_name)

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if args[:1] == ["help"]:  # `help VERB` is `VERB --help`
            args = [*(word for word in args[1:] if word not in ("help", *HELP_FLAGS)), HELP_FLAGS[0]]
        return super().parse_args(ctx, args)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        if len(args) > 1 and f"{args[0]} {args[1]}" in VERBS:
            args = [f"{args[0]} {args[1]}", *args[2:]]  # a verb of two words
        if args[0] in VERBS or args[0].startswith("-"):
            return super().resolve_command(ctx, args)
        kinds = kinds_of(args[0])
        if kinds and all(word in HELP_FLAGS for word in args[1:]):
            return args[0], Kinds(args[0]), []
        if kinds:
            what = f"{args[0]} {args[1]}" if len(args) > 1 else args[0]
            why = f"{args[0]} has a second word that says what"
            raise UsageError(f"there is no verb {what!r}", why, f"use zembrel {' or '.join(kinds)}")
        meant = hint(args[0])
        raise UsageError(
            f"there is no verb {args[0]!r}",
            "the first word says what to do",
            f"use zembrel {meant}" if meant else nearest_name(args[0], VERBS) + " (see zembrel --help)",
        )

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        return ["VERB INPUT... --out PATH [options]"]

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        width = max(map(len, VERBS))
        for step, verbs in STEPS.items():
            with formatter.section(heading(step)):
                formatter.write_dl([(verb.name.ljust(width), verb.summary) for verb in verbs])


def command_line() -> Any:
    """The root command."""
    app = typer.Typer(cls=Verbs, add_completion=False, rich_markup_mode=None, no_args_is_help=False)

    @app.callback(
        invoke_without_command=True,
        context_settings={"max_content_width": WIDEST, "help_option_names": list(HELP_FLAGS)},
        epilog="\b\nTry:   zembrel demo --out demo/\nThen:  zembrel VERB --help for options and an example",
    )
    def zembrel(
        ctx: typer.Context,
        version: Annotated[bool, typer.Option("--version", "-V", help="Show the version and stop.")] = False,
    ) -> None:
        """Clip, mosaic, tile, reproject and convert rasters, features and points, exactly and in bounded
        memory."""
        if version:
            print(f"zembrel {program_version()}")
            raise typer.Exit(0)
        if ctx.invoked_subcommand is None:
            print(ctx.get_help())
            raise typer.Exit(0)

    return typer.main.get_command(app)
