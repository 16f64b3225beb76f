"""Cloud-optimized point clouds: LAZ 1.4 with an octree in it."""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.handles import Readable
from zembrel.points.files import Reading
from zembrel.points.las.copc import INFO_AT, CopcNode, Info, pack_hierarchy, with_octree
from zembrel.points.las.header import SIZES, read_header
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.laswriting import EncodedChunk, LasEncoder, LasStore, NewFile
from zembrel.points.laz.items import VARIABLE
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.octree import CELLS, Cube, Key, Places, key_of, node_keys, subtree, upper_nodes
from zembrel.points.sink import PointsAsIs, PointSink

_CHUNK, _BUCKET = 200_000, 1_500_000  # points that are spooled, and that are built at a time
_DEPTH = 6  # levels above the buckets, at most
_VLR = 54  # bytes of the head of a record


def open_points(path: Readable, reading: Reading) -> PointSource:
    """The file at `path`, as fine as asked. Raises InputError."""
    source = open_las(path, salvage=reading.salvage)
    return source if reading.salvage else with_octree(source, reading.resolution)


def lacking(new: NewFile) -> tuple[str, ...]:
    """Values that such a file does not hold: none."""
    return ()


def is_ours(path: Path) -> bool:
    return True


def make_sink(path: Path, new: NewFile) -> PointSink:
    """A sink that spools points and arranges them in an octree at the end."""
    return PointSink(_CHUNK, PointsAsIs(), CopcStore(path, new))


@dataclass
class CopcStore:
    """Points on their way into an octree: into a file in order, then into parts of it, then into nodes."""

    path: Path
    new: NewFile

    def __post_init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="zembrel-", dir=self.path.parent)
        self._spool = (Path(self._folder.name) / "all").open("wb")
        self._ends = [np.full(3, np.iinfo(np.int64).max), np.full(3, np.iinfo(np.int64).min)]
        self._times = [np.inf, -np.inf]
        self._nodes: list[CopcNode] = []
        self._cube = Cube(*self.new.scaling.offset, 1.0)
        self._written: LasStore | None = None

    def append(self, encoded: PointBlock) -> None:
        records = encoded.records
        self._spool.write(np.ascontiguousarray(records).tobytes())
        stored = np.stack([records[axis] for axis in "XYZ"])
        self._ends = [
            np.minimum(self._ends[0], stored.min(axis=1)),
            np.maximum(self._ends[1], stored.max(axis=1)),
        ]
        times = records["gps_time"]
        self._times = [min(self._times[0], float(times.min())), max(self._times[1], float(times.max()))]

    @property
    def node_encoder(self) -> LasEncoder:
        return LasEncoder(self.new.layout, compressed=True)

    def arranged(self) -> Iterator[tuple[Key, PointBlock]]:
        """Nodes and their points, in a fixed order: parts of the cube, then those above."""
        self._spool.close()
        self._cube = cube = self._around()
        info = self._info(cube).pack()
        new = replace(self.new, compressed=True, version=(1, 4), chunk=VARIABLE, first=(info,))
        self._written = LasStore(self.path, new)
        depth = self._depth(cube)
        above: dict[Key, list[npt.NDArray[np.void]]] = {}
        for bucket in self._buckets(cube, depth):
            held = np.fromfile(bucket, self.new.layout.dtype)
            places = self._places(cube, held)
            taken, left = upper_nodes(places, depth)
            for key, numbers in taken.items():
                above.setdefault(key, []).append(held[numbers])
            for key, numbers in subtree(places, left, depth):
                yield key, self._block(held[numbers])
        for key, parts in sorted(above.items()):
            yield key, self._block(np.concatenate(parts))

    def enter(self, key: Key, encoded: EncodedChunk) -> None:
        assert self._written is not None
        self._nodes.append(CopcNode(*key, self._written.position, len(encoded.data), encoded.tally.points))
        self._written.append(encoded)

    def finish(self) -> None:
        """Write what the nodes are, and complete the file."""
        assert self._written is not None
        self._written.extended.append(pack_hierarchy(self._nodes))
        self._written.finish()
        self._complete(self._cube)
        self._folder.cleanup()

    def abort(self) -> None:
        self._spool.close()
        if self._written is not None:
            self._written.abort()
        self._folder.cleanup()

    def _block(self, records: npt.NDArray[np.void]) -> PointBlock:
        return PointBlock(records, self.new.layout, self.new.scaling)

    def _around(self) -> Cube:
        """The cube around all points."""
        if self._ends[0][0] > self._ends[1][0]:
            return Cube(*self.new.scaling.offset, 1.0)
        scaling = self.new.scaling
        low, high = ([float(scaling.coordinates(e[axis], axis)) for axis in range(3)] for e in self._ends)
        side = max(max(b - a for a, b in zip(low, high, strict=True)), 1e-3) * (1 + 1e-9)
        return Cube(low[0], low[1], low[2], side)

    def _info(self, cube: Cube, at: int = 0, size: int = 0) -> Info:
        half = cube.side / 2
        first, last = self._times if self._times[0] <= self._times[1] else (0.0, 0.0)
        return Info(
            cube.x + half, cube.y + half, cube.z + half, half, cube.side / CELLS, at, size, first, last
        )

    def _places(self, cube: Cube, records: npt.NDArray[np.void]) -> Places:
        block = self._block(records)
        return cube.places(block.x, block.y, block.z)

    def _spooled(self) -> Iterator[npt.NDArray[np.void]]:
        """All points, a piece at a time."""
        with Path(self._spool.name).open("rb") as file:
            while len(part := np.fromfile(file, self.new.layout.dtype, _CHUNK)):
                yield part

    def _depth(self, cube: Cube) -> int:
        """The level whose nodes have few enough points to be built one by one; 0 if all fit at once."""
        counts: Counter[int] = Counter()
        for part in self._spooled():
            found, numbers = np.unique(node_keys(self._places(cube, part), _DEPTH), return_counts=True)
            counts.update(dict(zip(found.tolist(), numbers.tolist(), strict=True)))
        for depth in range(_DEPTH):
            sums: Counter[tuple[int, ...]] = Counter()
            for number, count in counts.items():
                sums[tuple(axis >> (_DEPTH - depth) for axis in key_of(number, _DEPTH)[1:])] += count
            if max(sums.values(), default=0) <= _BUCKET:
                return depth
        return _DEPTH

    def _buckets(self, cube: Cube, depth: int) -> list[Path]:
        """The files of the parts that are built one by one."""
        if depth == 0:
            return [Path(self._spool.name)]
        files: dict[int, Path] = {}
        for part in self._spooled():
            keys = node_keys(self._places(cube, part), depth)
            order = np.argsort(keys, kind="stable")
            found, starts = np.unique(keys[order], return_index=True)
            for key, numbers in zip(found.tolist(), np.split(order, starts[1:]), strict=True):
                file = files.setdefault(key, Path(self._folder.name) / f"{key}")
                with file.open("ab") as bucket:
                    bucket.write(part[numbers].tobytes())
        return [files[key] for key in sorted(files)]

    def _complete(self, cube: Cube) -> None:
        """Enter into the info record where the hierarchy lies."""
        with self.path.open("r+b") as file:
            header = read_header(file.read(SIZES[4]), self.path)
            info = self._info(cube, header.extended_at + 60, 32 * len(self._nodes))
            file.seek(INFO_AT + _VLR)
            file.write(info.pack().data)
