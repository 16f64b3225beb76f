"""One chain of a job run: a step with those whose cells go on into it, as one run of its own."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zembrel.errors import EMPTY, CheckError, ZembrelError
from zembrel.inputs.finding import find
from zembrel.inputs.layers import open_layer
from zembrel.inputs.options import Inputs
from zembrel.jobs.chains import Chain
from zembrel.jobs.contents import Mark, mark_of
from zembrel.jobs.steps import SKIP, WRITE, JobStep, MadeBy
from zembrel.opened.calls import ran
from zembrel.progress import Tick, no_tick
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.results.receipt import LOSSES, Receipt
from zembrel.results.verboptions import options_of, signature_of
from zembrel.runstate import Watcher

_FAILED = 1  # exit code of checks that did not hold


@dataclass(frozen=True)
class Setting:
    """What all steps of a run share: where the results of steps are, and options that a step does not say.

    outs: paths by step; budget: `memory` and `workers` as they are typed; dry_run: nothing is written.
    """

    outs: Mapping[str, str]
    budget: Mapping[str, Any]
    dry_run: bool = False


@dataclass(frozen=True)
class Ended:
    """What came of a chain: the receipts of its steps in order, and marks of what it read and wrote.

    empty: why there was nothing to do; nothing was made then.
    """

    receipts: tuple[Receipt, ...]
    read: tuple[tuple[str, Mark], ...] = ()
    written: tuple[tuple[str, Mark], ...] = ()
    empty: str = ""

    @property
    def lossy(self) -> bool:
        """Whether something is lost that the receipt lists."""
        return any(receipt.exit_code == LOSSES for receipt in self.receipts)


def executed(chain: Chain, setting: Setting, watcher: Watcher, tick: Tick) -> Ended:
    """Run a chain in the folder of its job. watcher: told of files before they are put in their places.

    Raises ZembrelError, which names the step.
    """
    cells: dict[str, list[Raster]] = {}
    receipts: list[Receipt] = []
    readings.watcher = watcher
    try:
        with readings.apart():
            try:
                for step in chain.steps:
                    last = step is chain.step
                    receipt, cells[step.id] = done_step(step, setting, cells, tick if last else no_tick)
                    receipts.append(receipt)
            except EMPTY as exc:
                if chain.step.when_empty != SKIP:
                    raise
                return Ended((), tuple(_read()), empty=str(exc))
            read, wrote = _read(), readings.written
    finally:
        readings.watcher = None
    if receipts[-1].exit_code == _FAILED:
        raise _failed(chain.step, receipts[-1])
    aside = chain.step.options.get("carry_to")
    written = [path for final in wrote for path in _inside(final) if not _lies_in(path, aside)]
    made = set(written)
    return Ended(
        tuple(receipts),
        tuple((path, mark) for path, mark in read if path not in made),
        tuple((path, mark) for path in written if (mark := mark_of(path)) is not None),
    )


def done_step(
    step: JobStep, setting: Setting, cells: Mapping[str, list[Raster]], tick: Tick
) -> tuple[Receipt, list[Raster]]:
    """The receipt of a step, and the cells that it makes if they go to no place. Raises ZembrelError."""
    options = signature_of(step.verb).options
    said = {name: _resolved(value, setting) for name, value in step.options.items() if name != "out"}
    typed = {name: value for name, value in setting.budget.items() if name in options} | said
    typed |= {"replace": True} if "replace" in options else {}
    typed |= {"keep_empty": True} if step.when_empty == WRITE else {}
    typed |= {"dry_run": True} if setting.dry_run and "dry_run" in options_of(step.verb) else {}
    try:
        given, names = _given(step, setting, cells)
        held = {"tick": tick, "names": names, "command": "zembrel run"}
        return ran(step.verb, given, step.out, typed, held)
    except ZembrelError as exc:
        raise type(exc)(f"step {step.id}: {exc.what}", exc.why, exc.remedy) from exc


def _resolved(value: Any, setting: Setting) -> Any:
    """The value of an option with paths for the results of other steps."""
    if isinstance(value, MadeBy):
        path = setting.outs[value.step]
        return value.lead + (os.path.join(path, value.rest) if value.rest else path)  # noqa: PTH118 keeps ./
    return tuple(_resolved(inner, setting) for inner in value) if isinstance(value, tuple) else value


def _given(
    step: JobStep, setting: Setting, cells: Mapping[str, list[Raster]]
) -> tuple[list[str | Raster], tuple[str, ...]]:
    """The inputs of a step, and names of those that are cells; with cells among files all are opened here."""
    held = any(isinstance(value, MadeBy) and value.step in cells for value in step.inputs)
    given: list[str | Raster] = []
    names: list[str] = []
    for value in step.inputs:
        if isinstance(value, MadeBy) and value.step in cells:
            given += cells[value.step]
            names += [value.step] * len(cells[value.step])
        elif held:
            for layer in _opened(str(_resolved(value, setting)), step.options):
                given.append(layer[1])
                names.append(layer[0])
        else:
            given.append(str(_resolved(value, setting)))
    return given, tuple(names)


def _opened(word: str, options: Mapping[str, Any]) -> list[tuple[str, Raster]]:
    """Names and rasters of an input, to stand among cells in its order."""
    said = {name: options[name] for name in ("layer", "from_layout") if name in options}
    inputs = Inputs(inputs=(word,), **said)
    return [(origin.name.stem, open_layer(origin, inputs).raster) for origin in find(inputs)]


def _failed(step: JobStep, receipt: Receipt) -> CheckError:
    reasons = receipt.own.get("reasons") or ["the check did not hold"]
    what = str(receipt.own.get("verdict") or "; ".join(map(str, reasons)))
    return CheckError(f"step {step.id}: {what}", f"{step.verb} ended so", "see zembrel run --verbose")


def _read() -> list[tuple[str, Mark]]:
    """What was read, as it was when it was first looked at; files of archives and of the web aside."""
    stamps, found = readings.stamps, []
    scratch = str(Path(tempfile.gettempdir()) / "zembrel-run-")
    for path in readings.files:
        mark = mark_of(str(path))
        if mark is None or str(path).startswith(scratch):
            continue
        then = stamps.get(path)
        if then is not None:
            mark = mark._replace(size=then.size, changed=then.changed, inode=then.inode)
        found.append((os.path.normpath(path), mark))
    return found


def _inside(final: Path) -> list[str]:
    """A file, or all files of a folder; hidden ones aside."""
    if not final.is_dir():
        return [] if final.name.startswith(".") else [os.path.normpath(final)]
    return sorted(os.path.normpath(path) for path in final.rglob("*") if path.is_file())


def _lies_in(path: str, folder: Any) -> bool:
    return isinstance(folder, str) and Path(path).absolute().is_relative_to(Path(folder).absolute())
