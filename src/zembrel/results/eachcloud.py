"""Point verbs that go one to one, and the receipt over all their results."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

from zembrel.engine.commit import check_free
from zembrel.engine.plan import check_room
from zembrel.errors import UsageError, ZembrelError, nearest_name
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.formats.origin import Origin
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Inputs, Output
from zembrel.points.files import check_name
from zembrel.points.files.catalogue import POINT_FORMATS
from zembrel.points.model import PointSource
from zembrel.results.clouds import Done, Job, carry_out
from zembrel.results.cloudtarget import bytes_at_most, new_file
from zembrel.results.each import Lost, each, results
from zembrel.results.receipt import LOSSES, PointTotals, Receipt

Plan = Callable[[PointSource, Path], Job]


def one_to_one(verb: str, given: Given, output: Output, plan: Plan, *, resume: bool = False) -> Receipt:
    """Make a result of each file, with one receipt over all; resume: keep results that stand already."""
    paths = given.paths
    finals = results(paths, output, _ending(output.format))
    stands = {final for final in finals if resume and _stands(final)}
    for final in finals:
        check_name(final)
        if not output.dry_run and final not in stands:
            check_free(final, output.replace)
    told: list[Fact] = []
    ready = _checked(given, finals, stands, output)

    def one(origin: Origin, final: Path) -> Done | None:
        if final in stands:
            return None
        source = ready.pop(origin, None) or open_cloud(origin, given.options)
        result = carry_out(plan(source, final), [source], final, output)
        told.extend(remarks(source.cloud.remarks))
        return result

    made, lost, outside = each(one, given.origins, finals, paths, keep_going=output.keep_going)
    kept = [fact("results_stood", results=len(stands))] if stands else []
    done = [result for result in made if result is not None]
    return receipt(verb, paths, output, done, [*told, *kept, *outside], lost)


def _checked(
    given: Given, finals: Sequence[Path], stands: set[Path], output: Output
) -> dict[Origin, PointSource]:
    """The clouds that were opened to see whether all results pass the ceiling, or the room on the disk.

    What cannot be opened, or planned, is said when its turn comes. Raises RefusedError.
    """
    ready: dict[Origin, PointSource] = {}
    wanted = [(o, final) for o, final in zip(given.origins, finals, strict=True) if final not in stands]
    if len(wanted) < 2:
        return ready
    size = points = 0
    for origin, final in wanted:
        try:
            source = open_cloud(origin, given.options)
            new = new_file(source, final, output)
        except ZembrelError:
            continue
        ready[origin] = source
        points += source.cloud.count
        size += bytes_at_most(new, source.cloud.count, [source], final)
    check_room(
        output.path, size, output.ceiling_bytes, output.command, f"{points:,} points in {len(wanted)} files"
    )
    return ready


def _stands(final: Path) -> bool:
    """Whether a result stands whole: it does, if it stands at all, and can be opened."""
    if not final.is_file():
        return False
    try:
        open_cloud(Origin.of(final), Inputs())
    except ZembrelError:
        return False
    return True


def receipt(
    verb: str,
    paths: Sequence[Path],
    output: Output,
    done: Sequence[Done],
    told: Sequence[Fact] = (),
    lost: Lost = (),
) -> Receipt:
    """What was read, kept, lost and written, in numbers."""
    moved = max((d.rounded for d in done), default=0.0)
    counts: Counter[str] = sum((d.counts for d in done), Counter())
    losses = tuple(item for d in done for item in d.losses)
    return Receipt(
        verb,
        tuple(paths),
        output.out,
        planned=output.dry_run,
        points=_totals(done),
        chose=distinct((*told, *(item for d in done for item in d.chose), *_rounding(done, moved))),
        checks=_counted(counts),
        losses=losses,
        lost=tuple(lost),
        results=tuple(d.result for d in done),
        seconds=output.seconds,
        own={
            "read": sum(d.read for d in done), "written": sum(d.written for d in done),
            "parts": sum(d.parts for d in done), "parts_read": sum(d.parts_read for d in done),
            "bytes": sum(d.bytes for d in done), "counts": dict(counts), "rounded": moved,
        },
        exit_code=LOSSES if lost or losses else 0,
    )  # fmt: skip


def _counted(counts: Counter[str]) -> tuple[Fact, ...]:
    return tuple(
        fact("points_counted", points=number, what=what) for what, number in counts.items() if number
    )


def _totals(done: Sequence[Done]) -> PointTotals | None:
    """What was read and kept of all inputs; None if nothing was done."""
    if not done:
        return None
    read, new = sum(d.read for d in done), done[0].new
    kept = read if done[0].planned else sum(d.written for d in done)
    parts = sum(d.parts_read for d in done), sum(d.parts for d in done)
    return PointTotals(kept, read, new.crs, new.layout.format, *parts)


def _rounding(done: Sequence[Done], moved: float) -> list[Fact]:
    if not moved:
        return []
    new = done[0].new
    steps = "/".join(f"{step:g}" for step in dict.fromkeys(new.scaling.scale))
    return [fact("coordinates_rounded", steps=steps, most=moved)]


def _ending(name: str | None) -> str | None:
    """The ending of a point format by its name. Raises UsageError."""
    if name is None:
        return None
    if name not in POINT_FORMATS:
        raise UsageError(
            f"there is no point format {name!r}",
            "see zembrel formats",
            nearest_name(name, list(POINT_FORMATS)),
        )
    return POINT_FORMATS[name].endings[0]
