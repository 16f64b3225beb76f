"""Verbs that go one to one: where each input's result goes, and the receipt over all of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar

from zembrel.engine.commit import check_free
from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.formats import choose_format, format_named
from zembrel.inputs.intake import Given
from zembrel.inputs.layers import Layer, given_layers, open_layer
from zembrel.inputs.options import Output
from zembrel.inputs.within import OutsideError, left_out
from zembrel.reading import readings
from zembrel.results.receipt import LOSSES, Loss, Receipt
from zembrel.results.write import Written

SHOWN_CHECKS = 6
Lost = Sequence[Loss]
Input = TypeVar("Input")
Result = TypeVar("Result")


def results(paths: Sequence[Path], output: Output, ending: str | None) -> list[Path]:
    """Where the result of each input goes; ending: of results in a folder, if not that of the input.

    Raises UsageError for two on one name or no folder.
    """
    out = output.path
    if not output.to_folder:
        if len(paths) > 1:
            raise UsageError(
                f"{len(paths)} inputs make {len(paths)} results, {out} is one",
                "they would overwrite each other",
                f"give a folder: --out {out.with_suffix('')}/",
            )
        return [out]
    finals = [out / (path.stem + (ending or path.suffix)) for path in paths]
    for number, final in enumerate(finals):
        if final in finals[:number]:
            raise UsageError(
                f"{paths[finals.index(final)]} and {paths[number]} would both become {final}",
                "one would be lost",
                "give them in two runs, or rename one",
            )
    return finals


def each(
    one: Callable[[Input, Path], Result],
    inputs: Sequence[Input],
    finals: Sequence[Path],
    paths: Sequence[Path],
    *,
    keep_going: bool,
) -> tuple[list[Result], Lost, list[Fact]]:
    """What `one` makes of each input, the inputs lost under keep_going, and a word on those outside the area.

    Raises what `one` raises; OutsideError only where no input meets the area; InputError where all are lost.
    """
    done: list[Result] = []
    lost: list[Loss] = []
    outside: list[tuple[Path, OutsideError]] = []
    for given, final, path in zip(inputs, finals, paths, strict=True):
        try:
            done.append(one(given, final))
        except OutsideError as exc:
            outside.append((path, exc))
        except ZembrelError as exc:
            if not keep_going or len(paths) == 1:
                raise
            lost.append(Loss(path, exc))
    if lost and not done:
        raise _all_lost(lost, len(paths))
    if outside and not done:
        first = outside[0][1]
        if len(paths) == 1:
            raise first
        what = f"none of the {len(paths)} inputs has anything inside the area"
        raise OutsideError(what, f"of the first, {first.why}", first.remedy)
    return done, lost, left_out([path for path, _ in outside])


def opened(given: Given, output: Output) -> tuple[list[Layer], Lost]:
    """The inputs, and those that cannot be opened; without keep_going that is an error, and of one alone."""
    layers = given_layers(given.options)
    lost: list[Loss] = []
    for origin in given.origins:
        try:
            layers.append(open_layer(origin, given.options))
        except ZembrelError as exc:
            if not output.keep_going or len(given.origins) == 1:
                raise
            lost.append(Loss(origin.name, exc))
    if not layers:
        raise _all_lost(lost, len(given.origins))
    return layers, lost


def _all_lost(lost: Lost, count: int) -> InputError:
    why = lost[0].error
    return InputError(f"none of the {count} inputs could be done", why.what, why.remedy)


def one_to_one(
    verb: str,
    layers: Sequence[Layer],
    output: Output,
    make: Callable[[Layer, Path], tuple[Written, list[Fact]]],
    unopened: Lost = (),
) -> Receipt:
    """Make each result and put one receipt over all; with keep_going the others are finished.

    unopened: inputs that were lost before.
    """
    ending = format_named(output.format).endings[0] if output.format else None
    paths = [layer.path for layer in layers]
    finals = results(paths, output, ending)
    for final in finals:
        choose_format(final, output.format)
        if not output.dry_run:
            check_free(final, output.replace)

    def one(layer: Layer, final: Path) -> tuple[Layer, Written, list[Fact]]:
        with readings.about(layer.path, paths):
            written, chose = make(layer, final)
        return layer, written, [*remarks(layer.remarks), *chose]

    done, lost, outside = each(one, layers, finals, paths, keep_going=output.keep_going)
    return _receipt(verb, layers, output, done, [*unopened, *lost], outside)


def _checks(done: Sequence[tuple[Layer, Written, list[Fact]]]) -> list[Fact]:
    """What was checked: said once where all agree, else for each by name."""
    said = [(layer.path.stem, item) for layer, written, _ in done for item in written.checks]
    if len({item for _, item in said}) < 2:
        return [item for _, item in said][:1]
    named = [item._replace(about=name) for name, item in said]
    more = [fact("and_more", more=len(named) - SHOWN_CHECKS)] if len(named) > SHOWN_CHECKS else []
    return named[:SHOWN_CHECKS] + more


def _receipt(
    verb: str,
    layers: Sequence[Layer],
    output: Output,
    done: Sequence[tuple[Layer, Written, list[Fact]]],
    lost: Lost,
    outside: Sequence[Fact],
) -> Receipt:
    return Receipt(
        verb,
        tuple(layer.path for layer in layers),
        output.out,
        planned=output.dry_run,
        touched=tuple(layer.path for layer, _, _ in done),
        frame=done[0][1].view.frame,
        chose=distinct(item for _, written, items in done for item in (*items, *written.chose)),
        checks=(*_checks(done), *outside),
        lost=tuple(lost),
        results=tuple(written.result for _, written, _ in done),
        seconds=output.seconds,
        exit_code=LOSSES if lost else 0,
    )
