"""From a verb's function to its command: shared option groups unfolded, the receipt printed."""

from __future__ import annotations

import dataclasses
import inspect
import shlex
import sys
import typing
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import typer
from typer.core import TyperCommand

from zembrel.cli import grammar, report
from zembrel.cli.options import ALWAYS, HELD, OPTIONS, option
from zembrel.cli.progress import shown_progress
from zembrel.cli.settings import defaults_for
from zembrel.cli.style import WIDEST, heading
from zembrel.cli.values import convert_here
from zembrel.progress import follow, listen
from zembrel.verbs.heeded import UNHEEDED
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.record import told
from zembrel.verbs.running import performed

GROUPS = (Inputs, Where, Output)
# what verbs take that have no inputs
_WORDS = {"standin device": "NAME PACK", "standin serve": "[FOLDER]", "run": "JOB", "receipt": "JOB|RECEIPT",
          "shell": "bash|zsh|fish|man"}  # fmt: skip
WITHOUT_OUT = ("check", "coords", "frame", "label", "shell", "source")  # do something even so


class VerbCommand(TyperCommand):
    """A command that checks the grammar first and takes defaults from zembrel.toml.

    own: names of the options that no other verb shares.
    """

    own: frozenset[str] = frozenset()
    context: Any = None  # of this run: what was given, and where it was said
    settled: Mapping[str, Any] = {}  # what zembrel.toml said of this run, and the command line did not

    def get_help_option(self, ctx: Any) -> Any:
        option = super().get_help_option(ctx)
        convert_here([option])
        return option

    def make_context(self, info_name: Any, args: list[str], parent: Any = None, **extra: Any) -> Any:
        extra.setdefault("default_map", defaults_for(str(self.name), {p.name: p for p in self.params}))
        return super().make_context(info_name, args, parent=parent, **extra)

    def invoke(self, ctx: Any) -> Any:
        said = {name for name in ctx.params if ctx.get_parameter_source(name).name == "DEFAULT_MAP"}
        if not str(ctx.params.get("within")).startswith("place:"):
            said.discard("places")  # in which nothing was looked up
        self.context = ctx
        self.settled = {name: value for name, value in (ctx.default_map or {}).items() if name in said}
        return super().invoke(ctx)

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        names = {str(p.name) for p in self.params}
        own = ["[NAME]"] if "name" in names else ["ACTION WORD..."] if "action" in names else []
        own = [_WORDS[str(self.name)]] if self.name in _WORDS else own
        inputs = ["SOURCE"] if self.name == "fetch" else ["INPUT..."] if "inputs" in names else []
        out = ["--out PATH"] if "out" in names and self.name not in WITHOUT_OUT else []
        return [*inputs, *own, *out, "[options]"]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Options in groups: those of this verb first, then what it shares with others."""
        rows = {str(p.name): record for p in self.get_params(ctx) if (record := p.get_help_record(ctx))}
        groups = {"This verb": tuple(name for name in rows if name in self.own), **HELD}
        for title, names in groups.items():
            shown = [rows.pop(name) for name in names if name in rows]
            if shown:
                with formatter.section(heading(title)):
                    formatter.write_dl([(flags.removesuffix(" <str>"), text) for flags, text in shown])

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        grammar.check(self.get_params(ctx), args)
        if any(p.name == "words" for p in self.params):
            args = grammar.numbers_last(args)
        return super().parse_args(ctx, args)


@dataclass(frozen=True)
class Command:
    """A verb's function, an example, and what its INPUT is."""

    function: Callable[..., Any]
    example: str
    inputs: str = "INPUT is a file, a folder or a quoted pattern."

    def build(self, name: str) -> Any:
        """The Typer command. Each parameter that is an option group becomes its fields."""
        parameters, groups = self._parameters(UNHEEDED[name])
        typed: dict[str, str] = {}

        def call(**values: Any) -> int:
            always = {key: values.pop(key) for key in ALWAYS}
            arguments = {key: _gathered(kind, values, UNHEEDED[name]) for key, kind in groups.items()}
            silent = always["quiet"] or always["json"]
            listen(None if silent else report.note)
            follow(None if silent else report.step)
            with shown_progress(name, always["progress"], silent) as tick:
                for key, group in arguments.items():
                    if isinstance(group, Output):
                        arguments[key] = dataclasses.replace(
                            group, tick=tick, command=_typed(), as_facts=always["json"],
                            dry_run=group.dry_run or always["explain"],
                        )  # fmt: skip
                given, json = arguments | values, always["json"]
                if always["explain"] and not _plans(name, groups):
                    receipt = Receipt(name)
                else:
                    receipt = performed(self.function, given, name, typed=typed, record=json, sums=json)
            if always["explain"]:
                from zembrel.cli.explaining import explained

                receipt = explained(receipt, made.context)  # type: ignore[attr-defined]
            receipt = dataclasses.replace(receipt, settled=made.settled)  # type: ignore[attr-defined]
            report.show_receipt(receipt, **{k: always[k] for k in ("json", "quiet", "verbose")})
            return int(receipt.exit_code)

        call.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        call.__annotations__ = {p.name: p.annotation for p in parameters}
        app = typer.Typer(add_completion=False, rich_markup_mode=None)
        inputs = f"{self.inputs}\n\n" if "inputs" in groups else ""
        epilog = f"{inputs}Example:\n\n\b\n  {self.example}"
        wide = {"max_content_width": WIDEST}
        app.command(name, cls=VerbCommand, help=self.function.__doc__, epilog=epilog, context_settings=wide)(
            call
        )
        made = typer.main.get_command(app)
        convert_here(made.params, {p.name: p.annotation for p in parameters})
        typed.update({str(p.name): max(p.opts, key=len).lstrip("-") for p in made.params})
        made.own = frozenset(inspect.signature(self.function).parameters)  # type: ignore[attr-defined]
        return made

    def _parameters(self, unheeded: Sequence[str]) -> tuple[list[inspect.Parameter], dict[str, type]]:
        hints = typing.get_type_hints(self.function, include_extras=True)
        signature = inspect.signature(self.function).parameters
        groups = {name: hints[name] for name in signature if hints[name] in GROUPS}
        parameters = [
            _parameter(name, hints[name], p.default) for name, p in signature.items() if name not in groups
        ]
        for group in groups.values():
            parameters += _unfolded(group, unheeded)
        parameters += [
            _parameter(name, Annotated[kind, info], _unset(name)) for name, (kind, info) in ALWAYS.items()
        ]
        return parameters, groups


def _gathered(group: type, values: dict[str, Any], unheeded: Sequence[str]) -> Any:
    """The option group from its fields among `values`, which are taken out."""
    heeded = [f.name for f in dataclasses.fields(group) if f.name not in unheeded]
    taken = {name: values.pop(name) for name in heeded if name in ("inputs", *OPTIONS) and name in values}
    if "inputs" in taken:
        taken["inputs"] = taken["inputs"] or ()
    return group(
        **{name: tuple(value) if isinstance(value, list) else value for name, value in taken.items()}
    )


def _unfolded(group: type, unheeded: Sequence[str]) -> list[inspect.Parameter]:
    """A parameter for each option of a group that is heeded."""
    types = typing.get_type_hints(group)
    made = []
    for field in dataclasses.fields(group):
        if field.name == "inputs":
            info = typer.Argument(hidden=True)
            made.append(_parameter("inputs", Annotated[list[str] | None, info], None))
        elif field.name in OPTIONS and field.name not in unheeded:
            kind = list[str] if field.name == "settings" else types[field.name]
            default: Any = [] if field.name == "settings" else field.default
            made.append(_parameter(field.name, Annotated[kind, option(field.name)], default))
    return made


def _plans(name: str, groups: Mapping[str, type]) -> bool:
    """Whether a verb can tell what it would do and leave it at that."""
    return Output in groups.values() and "dry_run" not in UNHEEDED[name]


def _unset(name: str) -> Any:
    return None if name == "progress" else False


def _parameter(name: str, annotation: Any, default: Any) -> inspect.Parameter:
    if name == "progress":
        annotation = Annotated[bool | None, ALWAYS["progress"][1]]
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)


def _typed() -> str:
    """The command line without --ceiling, so that a refusal can print it with one that goes on."""
    words = sys.argv[1:]
    at = next((n for n, word in enumerate(words) if word.partition("=")[0] == "--ceiling"), len(words))
    after = at + (1 if "=" in "".join(words[at : at + 1]) else 2)
    return shlex.join(["zembrel", *map(told, [*words[:at], *words[after:]])])
