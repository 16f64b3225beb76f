"""Formulas on cells: turned once into steps over registers, which run a piece of a block at a time.

A piece is so small that the registers stay in the processor's cache; what two formulas share is computed
once. A result is void where a layer that it depends on is void, and where a number on the way is none
(division by zero, the root of a negative number). `where` depends on its condition and the branch that it
takes, `valid` on nothing, statistics of what lies around on any valid cell there.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.expression.around import around

Array = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]
_PIECE = (
    524_288  # bytes of a register: much more leaves the cache, much less lets threads wait for each other
)


class InputValid(NamedTuple):
    """Void where that input is."""

    slot: int


class Finite(NamedTuple):
    """Void where that register holds no finite number."""

    slot: int


class Choice(NamedTuple):
    """As `yes` where that register is true, else as `no`."""

    slot: int
    yes: Validity
    no: Validity


class Decided(NamedTuple):
    """Conditions that `and` or `or` joins: void unless one decides the whole or all are known.

    Source: S. C. Kleene, "Introduction to metamathematics" (1952), section 64.
    """

    word: str
    slots: tuple[int, ...]
    parts: tuple[Validity, ...]


class Both(NamedTuple):
    """Void where any of these is."""

    parts: tuple[Validity, ...]


Validity = InputValid | Finite | Choice | Decided | Both | None  # None: never void


class Instruction(NamedTuple):
    """One operation: on which slots, into which; `validity` instead gives where that is not void."""

    operation: Any
    operands: tuple[int, ...]
    out: int
    validity: Validity = None


class Statistic(NamedTuple):
    """What a program needs of the cells around, made before it."""

    name: str
    reach: int
    part: Program


class Outcome(NamedTuple):
    """A result: the slot that it is written to, its type, and where it is void."""

    slot: int
    type: str
    validity: Validity


@dataclass(frozen=True)
class Program:
    """Steps from named cells to results; picklable.

    names: of the inputs, which fill the first slots; statistics fill those behind them; constants: by slot;
    registers: the type of each slot that steps fill; reach: cells around a block that it needs; rounds:
    whether whole numbers of 64 bits are computed with in double precision.
    """

    names: tuple[str, ...]
    statistics: tuple[Statistic, ...]
    constants: Mapping[int, Any]
    registers: Mapping[int, str]
    steps: tuple[Instruction, ...]
    outcomes: tuple[Outcome, ...]
    reach: int = 0
    rounds: bool = False

    @property
    def reads(self) -> tuple[str, ...]:
        """The names that are read, by statistics too."""
        inner = (name for statistic in self.statistics for name in statistic.part.reads)
        return tuple(dict.fromkeys((*self.names, *inner)))

    @np.errstate(all="ignore")
    def run(
        self, cells: Mapping[str, tuple[Array, Mask | None]], into: Sequence[Array] | None = None
    ) -> list[tuple[Array, Mask | None]]:
        """Each result, (rows, columns), and where it is valid (None: everywhere), of cells by name.

        into: arrays of the types of the results that they are written to, if not new ones.
        """
        given = [cells[name] for name in self.names]
        for statistic in self.statistics:
            values, valid = statistic.part.run(cells)[0]
            given.append(around(statistic.name, values, valid, statistic.reach))
        shape = next(iter(cells.values()))[0].shape
        flat = [np.ascontiguousarray(values).reshape(-1) for values, _ in given]
        masks = [None if valid is None else np.ascontiguousarray(valid).reshape(-1) for _, valid in given]
        made = into or [np.empty(shape, outcome.type) for outcome in self.outcomes]
        known: list[Mask | None] = [None] * len(made)
        size = _PIECE // max((np.dtype(kind).itemsize for kind in self.registers.values()), default=8)
        room = _Room(self, size, len(flat))
        for start in range(0, made[0].size, size):
            part = slice(start, min(start + size, made[0].size))
            masked = [mask if mask is None else mask[part] for mask in masks]
            room.enter([values[part] for values in flat], masked, part.stop - start)
            room.results([array.reshape(-1)[part] for array in made])
            room.run()
            for number, ok in enumerate(room.valid()):
                if ok is not None:
                    whole = known[number]
                    if whole is None:
                        whole = known[number] = np.ones(shape, bool)
                    whole.reshape(-1)[part] = ok
        return list(zip(made, known, strict=True))


class _Room:
    """Slots for a piece of so many cells."""

    def __init__(self, program: Program, size: int, inputs: int) -> None:
        self._program, self._inputs = program, inputs
        self._buffers = {slot: np.empty(size, kind) for slot, kind in program.registers.items()}
        slots = (*program.constants, *program.registers, inputs)
        self._slots: list[Any] = [None] * (max(slots) + 1)
        self._masks: Sequence[Mask | None] = ()
        for slot, value in program.constants.items():
            self._slots[slot] = value

    def enter(self, values: Sequence[Array], masks: Sequence[Mask | None], size: int) -> None:
        """The inputs of the next piece of so many cells."""
        self._slots[: self._inputs] = values
        self._masks = masks
        for slot, buffer in self._buffers.items():
            self._slots[slot] = buffer[:size]

    def results(self, arrays: Sequence[Array]) -> None:
        """Where the results of the next piece go."""
        for outcome, array in zip(self._program.outcomes, arrays, strict=True):
            self._slots[outcome.slot] = array

    def run(self) -> None:
        slots = self._slots
        for operation, operands, out, validity in self._program.steps:
            if operation is None:
                ok = self._valid(validity)
                slots[out][...] = True if ok is None else ok
            else:
                operation(*[slots[operand] for operand in operands], out=slots[out])

    def valid(self) -> list[Mask | None]:
        """Where the results are valid."""
        found: list[Mask | None] = []
        for slot, kind, validity in self._program.outcomes:
            ok = self._valid(validity)
            if np.dtype(kind).kind == "f":
                values = self._slots[slot]
                if not np.isfinite(np.add.reduce(values)):  # some may not be; a sum is the quickest to tell
                    finite = np.isfinite(values)
                    ok = finite if ok is None else ok & finite
            found.append(ok)
        return found

    def _valid(self, validity: Validity) -> Mask | None:
        match validity:
            case None:
                return None
            case InputValid(slot):
                return self._masks[slot]
            case Finite(slot):
                return np.asarray(np.isfinite(self._slots[slot]))
            case Choice(slot, yes, no):
                taken, other = self._valid(yes), self._valid(no)
                if taken is None and other is None:
                    return None
                ends = (True if ok is None else ok for ok in (taken, other))
                return np.where(self._slots[slot], *ends)
            case Decided(word, slots, parts):
                return self._decided(word, slots, [self._valid(part) for part in parts])
            case Both(parts):
                whole: Mask | None = None
                for part in parts:
                    ok = self._valid(part)
                    whole = ok if whole is None else whole if ok is None else whole & ok
                return whole

    def _decided(self, word: str, slots: Sequence[int], known: Sequence[Mask | None]) -> Mask | None:
        if all(ok is None for ok in known):
            return None
        sure: Any = True
        decided: Any = False
        for slot, ok in zip(slots, known, strict=True):
            decides = self._slots[slot] if word == "or" else np.logical_not(self._slots[slot])
            sure = sure if ok is None else sure & ok
            decided = decided | (decides if ok is None else decides & ok)
        return np.asarray(sure | decided)
