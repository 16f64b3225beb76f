"""How large the results of steps would be, as far as that can be told without making any."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace

from zembrel.errors import ZembrelError
from zembrel.jobs.chains import Chain
from zembrel.jobs.steps import JobStep
from zembrel.progress import no_tick
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.verbs.jobs.stepping import Setting, done_step
from zembrel.verbs.typed import signature_of

# options for which cells are looked at; without them a result is hardly smaller
_LOOKS = ("trim_collar", "match_tone", "stretch", "classes", "limits")
_ENOUGH = 0.7  # seconds; a plan is looked at before anything starts


def sizes_of(chains: Sequence[Chain], setting: Setting) -> dict[str, int]:
    """Bytes at most of what each chain would make, by id of its step; of many, those of the first.

    Steps whose inputs are not there yet are asked on the cells that those before them would make.
    """
    cells: dict[str, list[Raster]] = {}
    sizes: dict[str, int] = {}
    begun = time.monotonic()
    with readings.apart():
        for chain in chains:
            if time.monotonic() - begun > _ENOUGH:
                break
            for step in chain.steps:
                size = _size(step, setting, cells)
                if size is not None:
                    sizes[step.id] = size
    return sizes


def _size(step: JobStep, setting: Setting, cells: dict[str, list[Raster]]) -> int | None:
    """Bytes of a step's result at most, if that can be told. Its cells are kept for those after it."""
    lazy = signature_of(step.verb).lazy
    size = None
    try:
        step = replace(step, options={n: value for n, value in step.options.items() if n not in _LOOKS})
        if step.out is not None:
            receipt, _ = done_step(step, setting, cells, no_tick)
            known = [result.bytes_at_most for result in receipt.results if result.bytes_at_most is not None]
            size = sum(known) if known else None
        if lazy:
            _, cells[step.id] = done_step(replace(step, options=_unplaced(step)), setting, cells, no_tick)
    except ZembrelError:
        return size  # it will say so when it runs
    return size


def _unplaced(step: JobStep) -> Mapping[str, object]:
    """The options of a step without a place for its result."""
    return {name: value for name, value in step.options.items() if name not in ("out", "format")}
