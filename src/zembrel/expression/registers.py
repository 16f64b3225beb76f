"""As few registers as a program needs: what is not needed any more makes room, so that all stay cached."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from zembrel.expression.program import Both, Choice, Decided, Finite, Instruction, Outcome, Program, Validity


def packed(program: Program) -> Program:
    """The same with registers used again, and results written by the step that makes them."""
    program = _straight(program)
    kept = {slot for outcome in program.outcomes for slot in (outcome.slot, *_needed(outcome.validity))}
    kept |= {slot for step in program.steps for slot in _needed(step.validity)}
    last = {slot: number for number, step in enumerate(program.steps) for slot in step.operands}
    free: dict[str, list[int]] = {}
    now: dict[int, int] = {}
    registers, steps = dict(program.registers), []
    for number, step in enumerate(program.steps):
        kind = program.registers[step.out]
        operands = tuple(now.get(slot, slot) for slot in step.operands)
        same = free.get(kind)
        if step.out not in kept and same:
            now[step.out] = same.pop()
            del registers[step.out]
        steps.append(Instruction(step.operation, operands, now.get(step.out, step.out), step.validity))
        for slot in dict.fromkeys(step.operands):
            if last[slot] == number and slot in program.registers and slot not in kept:
                free.setdefault(program.registers[slot], []).append(now.get(slot, slot))
    return replace(program, registers=registers, steps=tuple(steps))


def _straight(program: Program) -> Program:
    """Without the copy at the end where the step before can write the result itself."""
    steps, outcomes = list(program.steps), list(program.outcomes)
    registers = dict(program.registers)
    for number, outcome in enumerate(outcomes):
        at = next(n for n, step in enumerate(steps) if step.out == outcome.slot)
        made = steps[at].operands[0]
        taken = any(other.slot == made for other in outcomes)
        if registers.get(made) == outcome.type and not taken:
            del steps[at], registers[outcome.slot]
            outcomes[number] = Outcome(made, outcome.type, outcome.validity)
    return replace(program, registers=registers, steps=tuple(steps), outcomes=tuple(outcomes))


def _needed(validity: Validity) -> Iterator[int]:
    """The registers that tell where something is void."""
    if isinstance(validity, Finite):
        yield validity.slot
    elif isinstance(validity, Choice):
        yield validity.slot
        yield from _needed(validity.yes)
        yield from _needed(validity.no)
    elif isinstance(validity, Decided):
        yield from validity.slots
        for part in validity.parts:
            yield from _needed(part)
    elif isinstance(validity, Both):
        for part in validity.parts:
            yield from _needed(part)
