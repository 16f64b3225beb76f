"""A verb of two words without its second one: its kinds are listed."""

from __future__ import annotations

from typing import Any

from typer.core import TyperCommand

from zembrel.cli.style import WIDEST, heading
from zembrel.verbtable import VERBS

HELP_FLAGS = ("--help", "-h")
_ABOUT = {
    "deliver": (
        "KIND INPUT... --out PATH [options]",
        "Make a pack for a device, a viewer or another program",
    ),
    "standin": ("KIND ... [options]", "Serve simulated sources, or check a pack as a device would"),
}


def kinds_of(word: str) -> list[str]:
    """Return the verbs of two words that begin with `word`."""
    return [verb for verb in VERBS if verb.startswith(f"{word} ")]


class Kinds(TyperCommand):
    """The first of two words as a command that shows help."""

    def __init__(self, word: str) -> None:
        wide = {"max_content_width": WIDEST}
        super().__init__(word, help=f"{_ABOUT[word][1]}.", context_settings=wide, rich_markup_mode=None)

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        return [_ABOUT[str(self.name)][0]]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """List the kinds instead: the first word alone has no options."""
        kinds = kinds_of(str(self.name))
        width = max(map(len, kinds))
        with formatter.section(heading("Kinds")):
            formatter.write_dl([(verb.ljust(width), VERBS[verb].summary) for verb in kinds])

    def format_epilog(self, ctx: Any, formatter: Any) -> None:
        formatter.write_paragraph()
        with formatter.indentation():
            formatter.write_text(f"zembrel {self.name} KIND --help shows the options and an example.")

    def invoke(self, ctx: Any) -> int:
        print(ctx.get_help())
        return 0
