"""From clouds to a file: what is read, kept and changed, and what became of it."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

import numpy as np

from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.plan import check_room
from zembrel.engine.points import Piece, flow, over_pieces, pieces_of
from zembrel.errors import EmptyInputError, RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.inputs.options import Output
from zembrel.measure import show_bytes
from zembrel.points.files import check_name, make_sink, not_held
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import Fields, PointBlock, PointSource, Scaling
from zembrel.points.picking import Inside, Mask, Picking
from zembrel.points.records import Layout
from zembrel.points.restated import las_of
from zembrel.progress import tell
from zembrel.reading import readings
from zembrel.results.cloudtarget import bytes_at_most
from zembrel.results.receipt import Result

_WORTH_SAYING = 200_000_000  # bytes of a result that are told before it is begun
Change = Callable[[PointBlock, Piece], PointBlock]


def unchanged(block: PointBlock, piece: Piece) -> PointBlock:
    return block


@dataclass(frozen=True)
class Sieve:
    """Which points go on: of a place and of a kind."""

    inside: Inside | None = None
    picking: Picking = field(default_factory=Picking)
    also: Callable[[PointBlock, Piece], Mask] | None = None  # of all points of a part, by their number too

    def kept(self, piece: Piece, fields: Fields | None = None) -> PointBlock | None:
        """Points of a part that go on; None for a part that was not read, since it lies elsewhere.

        fields: names of the values that are needed, None for all.
        """
        source, part = piece.source, piece.part
        if self.inside is not None and not self.inside.meets(part.bounds):
            return None
        if self.inside is not None and _cheap_places(source):
            places = source.read(part, frozenset())
            if not self.inside.mask(places.x, places.y).any():
                return places.take(slice(0, 0))
        block = source.read(part, None if fields is None else fields | self.picking.names)
        mask = np.ones(len(block), bool)
        if self.inside is not None:
            mask = self.inside.mask(block.x, block.y)
        if not self.picking.all and mask.any():
            mask &= self.picking.mask(block)
        if self.also is not None:
            mask &= self.also(block, piece)
        return block if mask.all() else block.take(mask)


def _cheap_places(source: PointSource) -> bool:
    """Whether x and y can be had without the rest: from layered chunks."""
    las = las_of(source)
    return las is not None and las.chunks is not None and source.cloud.layout.long


@dataclass(frozen=True)
class Job:
    """What to make of clouds: the new file, which points go into it, and how they are changed."""

    new: NewFile
    sieve: Sieve = field(default_factory=Sieve)
    change: Change = unchanged
    in_order: Callable[[PointBlock], PointBlock] | None = None  # a last choice that rests on the ones before
    chose: tuple[Fact, ...] = ()
    counted: Callable[[PointBlock], dict[str, int]] | None = (
        None  # what to tell of the points that are written
    )
    empty: bool = False  # whether a file without a point is wanted, should none be left


@dataclass
class Done:
    """What became of a job."""

    path: Path
    new: NewFile
    read: int = 0  # points
    written: int = 0
    parts: int = 0
    parts_read: int = 0
    bytes: int = 0
    seconds: float = 0.0
    lost: Counter[str] = field(default_factory=Counter)
    records_lost: tuple[str, ...] = ()  # who defined them
    counts: Counter[str] = field(default_factory=Counter)
    rounded: float = 0.0  # how far a coordinate moved at most, since the new steps cannot hold it
    bounds: list[float] | None = None
    chose: tuple[Fact, ...] = ()
    beside: tuple[Path, ...] = ()
    planned: bool = False

    @property
    def result(self) -> Result:
        """The file for the receipt; of a planned one the bytes are those at most."""
        if self.planned:
            return Result(self.path, bytes_at_most=self.bytes)
        beside = self.beside
        return Result(
            self.path, self.bytes, count=self.written, what="points", beside=beside, seconds=self.seconds
        )

    def note_not_held(self, sources: Sequence[PointSource]) -> None:
        """Take note of what the format of the new file cannot hold."""
        like = next((las for source in sources if (las := las_of(source)) is not None), None)
        names, self.records_lost = not_held(self.path, self.new, like)
        self.lost.update(dict.fromkeys((f"{name} is lost" for name in names), self.written))

    @property
    def losses(self) -> list[Fact]:
        said = [fact("points_lose", what=what, points=count) for what, count in self.lost.items()]
        return [*said, *([fact("records_lost", users=self.records_lost)] if self.records_lost else [])]


def carry_out(job: Job, sources: Sequence[PointSource], final: Path, output: Output) -> Done:
    """Write the file of a job, or only plan it in a dry run. Raises RefusedError and ResourceError."""
    check_name(final)
    if output.into is not None:
        raise UsageError(
            f"--into {output.into}", f"{final.name} holds points, not layers of features", "leave it out"
        )
    count = sum(source.cloud.count for source in sources)
    size = bytes_at_most(job.new, count, sources, final)
    if not output.dry_run:
        check_free(final, output.replace)
    check_room(final, size, output.ceiling_bytes, output.command, f"{count:,} points")
    done = Done(final, job.new, chose=job.chose)
    if output.dry_run:
        done.read, done.bytes, done.planned = count, size, True
        return done
    if size > _WORTH_SAYING:
        tell(f"{final} will take about {show_bytes(size)}")
    for source in sources:
        _look_ahead(source, job.sieve.inside)
    with Staging(output.replace) as staging:
        staged = staging.path_for(final)
        with resource_errors(final):
            writer = make_sink(staged, job.new, final)
            done.written = flow(_blocks(job, sources, done, output), writer, output.limits)
            if not done.written and count and not job.empty:
                raise EmptyInputError(
                    f"no point is left for {final}",
                    f"{done.read:,} of {count:,} points were looked at",
                    "check the area, --classes, --returns and --where",
                )
            done.bytes = staged.stat().st_size
            if staged.with_suffix(".prj").exists():
                staging.path_for(final.with_suffix(".prj"))
                done.beside = (final.with_suffix(".prj"),)
            if (waves := job.new.waves_beside()) is not None:
                shutil.copyfile(readings.note(waves), staging.path_for(final.with_suffix(".wdp")))
                done.beside = (final.with_suffix(".wdp"),)
        staging.publish()
    done.note_not_held(sources)
    done.seconds = output.seconds
    return done


def _look_ahead(source: PointSource, area: Inside | None) -> None:
    """Fetch the chunks of a remote file that will be read, neighbours together."""
    las = las_of(source)
    if las is not None:
        las.look_ahead(part.number for part in source.parts if area is None or area.meets(part.bounds))


class Worked(NamedTuple):
    """A block as the new file holds it, and what is to be told of it."""

    block: PointBlock | None
    lost: dict[str, int] = {}  # noqa: RUF012 read alone
    counts: dict[str, int] = {}  # noqa: RUF012
    rounded: float = 0.0


def _apart(before: PointBlock, after: PointBlock) -> float:
    """How far apart coordinates of the same points lie at most, but for the last bits of their numbers."""
    if before.scaling == after.scaling or not len(before):
        return 0.0
    moved = 0.0
    for one, other in ((before.x, after.x), (before.y, after.y), (before.z, after.z)):
        slack = 4 * np.finfo(float).eps * float(np.abs(one).max())
        apart = float(np.abs(one - other).max())
        moved = max(moved, apart if apart > slack else 0.0)
    return moved


@dataclass(frozen=True, eq=False)
class _Work:
    """The task of making of a piece what goes into the new file."""

    sieve: Sieve
    change: Change
    layout: Layout
    scaling: Scaling
    counted: Callable[[PointBlock], dict[str, int]] | None

    def __call__(self, piece: Piece) -> Worked:
        block = self.sieve.kept(piece)
        if block is None or not len(block):
            return Worked(block)
        try:
            block = self.change(block, piece)
            block, lost = block.regraded(self.layout)
            counts = self.counted(block) if self.counted is not None else {}
            made = block.rescaled(self.scaling)
            return Worked(made, lost, counts, _apart(block, made))
        except OverflowError as exc:
            steps = "/".join(f"{step:g}" for step in self.scaling.scale)
            raise RefusedError(
                f"a point does not fit steps of {steps}",
                f"its {str(exc).lower()} is farther from the offset than 32 bits reach",
                "add --set scale=0.01, or clip away what lies far off (see describe --stats)",
            ) from exc


def _blocks(job: Job, sources: Sequence[PointSource], done: Done, output: Output) -> Iterator[PointBlock]:
    """Blocks as the new file holds them, with what is lost counted."""
    pieces, new = pieces_of(sources), job.new
    task = _Work(job.sieve, job.change, new.layout, new.scaling, job.counted)
    done.parts = len(pieces)
    for piece, worked in zip(pieces, over_pieces(pieces, task, output.limits), strict=True):
        block = worked.block
        done.lost.update(worked.lost)
        done.counts.update(worked.counts)
        done.rounded = max(done.rounded, worked.rounded)
        if block is not None:
            done.parts_read += 1
            done.read += piece.part.points
            if job.in_order is not None:
                block = job.in_order(block)
            if len(block):
                yield block
