"""Build the command of a verb from its record and its function."""

from __future__ import annotations

import dataclasses
import inspect
import shlex
import sys
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import typer
from typer.core import TyperCommand

from zembrel.cli import grammar, report
from zembrel.cli.options import ALWAYS, HELD
from zembrel.cli.progress import shown_progress
from zembrel.cli.settings import defaults_for
from zembrel.cli.style import WIDEST, heading
from zembrel.cli.values import convert_here
from zembrel.errors import UsageError
from zembrel.jobs.signature import FLAG, NUMBER, TEXT, WHOLE, Option
from zembrel.progress import follow, listen
from zembrel.results.receipt import Receipt
from zembrel.results.record import told
from zembrel.results.running import performed
from zembrel.results.verboptions import (
    arguments_of,
    function_of,
    is_shared,
    options_of,
    positionals_of,
    required_of,
)
from zembrel.verbtable import VERBS
from zembrel.verbtable.record import Verb

_TYPES: dict[str, Any] = {TEXT: str, NUMBER: float, WHOLE: int, FLAG: bool}


class VerbCommand(TyperCommand):
    """A command that checks the grammar first and takes defaults from zembrel.toml.

    own: names of the options that no other verb shares.
    """

    own: frozenset[str] = frozenset()
    context: Any = None  # of this run: what was given, and where it was said
    settled: Mapping[str, Any] = {}  # values that zembrel.toml set for this run, by option

    def get_help_option(self, ctx: Any) -> Any:
        option = super().get_help_option(ctx)
        convert_here([option])
        return option

    def make_context(self, info_name: Any, args: list[str], parent: Any = None, **extra: Any) -> Any:
        extra.setdefault("default_map", defaults_for(str(self.name), self._names()))
        return super().make_context(info_name, args, parent=parent, **extra)

    def invoke(self, ctx: Any) -> Any:
        said = {name for name in ctx.params if ctx.get_parameter_source(name).name == "DEFAULT_MAP"}
        if not str(ctx.params.get("within")).startswith("place:"):
            said.discard("places")  # in which nothing was looked up
        self.context = ctx
        own = {name: typed for typed, name in self._names().items()}
        self.settled = {own[name]: value for name, value in (ctx.default_map or {}).items() if name in said}
        return super().invoke(ctx)

    def _names(self) -> dict[str, str]:
        """Return the parameter for each name of an option."""
        names = {str(p.name): max(p.opts, key=len).lstrip("-").replace("-", "_") for p in self.params}
        return {typed: name for name, typed in names.items()}

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        record = VERBS[str(self.name)]
        names = {str(p.name) for p in self.params}
        inputs = [record.input_word] if "inputs" in names else []
        out = ["--out PATH"] if "out" in names and record.needs_out else []
        return [*inputs, *record.arguments, *out, "[options]"]

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


def command_of(name: str) -> Any:
    """Return the command of a verb, which runs the verb and prints its receipt."""
    record, options = VERBS[name], options_of(name)
    plans = "dry_run" in options

    def call(**values: Any) -> int:
        always = {key: values.pop(key) for key in ALWAYS}
        silent = always["quiet"] or always["json"]
        listen(None if silent else report.note)
        follow(None if silent else report.step)
        given = {
            name: tuple(value) if isinstance(value, list) else value
            for name, option in options.items()
            if (option.text is not None or name == "inputs")
            and (value := values.get(option.path[-1])) is not None
        }
        given |= _positionals(record, values.get("words") or ())
        with shown_progress(name, always["progress"], silent) as tick:
            held = {"tick": tick, "command": _typed(), "as_facts": always["json"]}
            if always["explain"] and not plans:
                receipt = Receipt(name)
            else:
                given |= {"dry_run": True} if always["explain"] else {}
                receipt = _performed(name, given, held, json=always["json"])
        if always["explain"]:
            from zembrel.cli.explaining import explained

            receipt = explained(receipt, made.context)
        receipt = dataclasses.replace(receipt, settled=made.settled)
        report.show_receipt(receipt, **{k: always[k] for k in ("json", "quiet", "verbose")})
        return int(receipt.exit_code)

    parameters = _parameters(name)
    call.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    call.__annotations__ = {p.name: p.annotation for p in parameters}
    app = typer.Typer(add_completion=False, rich_markup_mode=None)
    inputs = f"{record.inputs}\n\n" if "inputs" in options else ""
    epilog = f"{inputs}Example:\n\n\b\n  {record.example}"
    wide = {"max_content_width": WIDEST}
    app.command(name, cls=VerbCommand, help=record.help, epilog=epilog, context_settings=wide)(call)
    made: Any = typer.main.get_command(app)
    convert_here(made.params, {p.name: p.annotation for p in parameters})
    made.own = frozenset(option.path[-1] for option in options.values() if not is_shared(name, option))
    return made


def _parameters(name: str) -> list[inspect.Parameter]:
    """Return the parameters of the command of a verb."""
    options = options_of(name)
    parameters = [
        _parameter(option, shared=is_shared(name, option))
        for option in options.values()
        if option.text is not None
    ]
    if positionals_of(name):
        parameters.append(_argument("words"))
    if "inputs" in options:
        parameters.insert(0, _argument("inputs"))
    parameters += [_always(key, kind, info) for key, (kind, info) in ALWAYS.items()]
    return parameters


def _performed(name: str, given: Mapping[str, Any], held: Mapping[str, Any], *, json: bool) -> Receipt:
    """Run a verb and return its receipt; given: options and positional arguments by name."""
    function = function_of(name)
    arguments = arguments_of(name, given, held)
    if "say" in inspect.signature(function).parameters:
        from zembrel.cli.saying import say_facts

        arguments["say"] = say_facts
    return performed(function, arguments, name, record=json, sums=json)


def _positionals(record: Verb, given: Sequence[str]) -> dict[str, Any]:
    """Return positional arguments by name. Raises UsageError for too many, or for too few."""
    parameters = positionals_of(record.name)
    many = bool(parameters) and parameters[-1].annotation == tuple[str, ...]
    if len(given) < len(required_of(record.name)) or (len(given) > len(parameters) and not many):
        counted = {0: "nothing is given", 1: f"{''.join(given[:1])} is given"}
        why = counted.get(len(given), f"{len(given)} words are given")
        raise UsageError(f"{record.name} needs {' '.join(record.arguments)}", why, f"write {record.example}")
    found: dict[str, Any] = dict(zip((parameter.name for parameter in parameters), given, strict=False))
    if many and len(given) >= len(parameters):
        found[parameters[-1].name] = tuple(given[len(parameters) - 1 :])
    return found


def _argument(name: str) -> inspect.Parameter:
    """Return the parameter for inputs, or for positional arguments."""
    kind = Annotated[list[str] | None, typer.Argument(hidden=True)]
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=None, annotation=kind)


def _parameter(option: Option, *, shared: bool) -> inspect.Parameter:
    """Return the parameter for an option. The help of shared options states the default itself."""
    assert option.text is not None
    name, text, default = option.path[-1], option.text, option.default
    kind: Any = _TYPES[option.kind]
    kind = list[kind] if option.many else kind if default is not None else kind | None
    if option.many:
        default = list(default) if isinstance(default, tuple) else []
    elif option.kind == FLAG and default is None and "/" not in text.flags(name)[0]:
        default = False
    info = typer.Option(*text.flags(name), metavar=text.value, help=text.help, show_default=not shared)
    annotated: Any = Annotated[kind, info]
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotated)


def _always(name: str, kind: Any, info: Any) -> inspect.Parameter:
    """Return the parameter for an option that every verb has."""
    annotated: Any = Annotated[kind, info]
    default = False if kind is bool else None
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotated)


def _typed() -> str:
    """The command line without --ceiling, so that a refusal can print it with one that goes on."""
    words = sys.argv[1:]
    at = next((n for n, word in enumerate(words) if word.partition("=")[0] == "--ceiling"), len(words))
    after = at + (1 if "=" in "".join(words[at : at + 1]) else 2)
    return shlex.join(["zembrel", *map(told, [*words[:at], *words[after:]])])
