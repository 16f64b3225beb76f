"""Cloud-optimized point clouds: LAZ 1.4 with an octree in it."""

from __future__ import annotations

import os
import tempfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.points.files import PointWriter, Reading
from zembrel.points.las.copc import INFO_AT, Info, Node, pack_hierarchy, with_octree
from zembrel.points.las.header import SIZES, read_header
from zembrel.points.las.reading import open_las
from zembrel.points.las.writing import Encoded, LasWriter, NewFile
from zembrel.points.laz.items import VARIABLE
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.octree import CELLS, Cube, Key, Places, key_of, node_keys, subtree, upper_nodes

_CHUNK, _BUCKET = 200_000, 1_500_000  # points that are spooled, and that are built at a time
_DEPTH = 6  # levels above the buckets, at most
_VLR = 54  # bytes of the head of a record


def open_points(path: Path, reading: Reading) -> PointSource:
    """The file at `path`, as fine as asked. Raises InputError."""
    source = open_las(path, salvage=reading.salvage)
    return source if reading.salvage else with_octree(source, reading.resolution)


def is_ours(path: Path) -> bool:
    return True


def make_writer(path: Path, new: NewFile) -> PointWriter:
    """A writer that spools points and builds the octree at the end."""
    return CopcWriter(path, new)


@dataclass
class CopcWriter:
    """Points on their way into an octree: into a file in order, then into parts of it, then into nodes."""

    path: Path
    new: NewFile
    chunk: int = field(default=_CHUNK, init=False)

    def __post_init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="zembrel-", dir=self.path.parent)
        self._spool = (Path(self._folder.name) / "all").open("wb")
        self._ends = [np.full(3, np.iinfo(np.int64).max), np.full(3, np.iinfo(np.int64).min)]
        self._times = [np.inf, -np.inf]
        self._nodes: list[Node] = []

    def encode(self, block: PointBlock) -> PointBlock:
        return block

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

    def finish(self) -> None:
        """Build the octree and write it, node after node."""
        try:
            self._spool.close()
            cube = self._cube()
            new = replace(
                self.new, compressed=True, version=(1, 4), chunk=VARIABLE, first=(self._info(cube).pack(),)
            )
            writer = LasWriter(self.path, new)
            try:
                for key, block in self._built(cube):
                    self._entered(writer, key, block)
                writer.extended.append(pack_hierarchy(self._nodes))
                writer.finish()
            except BaseException:
                writer.abort()
                raise
            self._complete(cube)
        finally:
            self._folder.cleanup()

    def abort(self) -> None:
        self._spool.close()
        self._folder.cleanup()

    def _cube(self) -> Cube:
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

    def _built(self, cube: Cube) -> Iterator[tuple[Key, Encoded]]:
        """Nodes and their points, encoded in parallel, in a fixed order: parts of the cube, then those
        above."""
        depth = self._depth(cube)
        above: dict[Key, list[npt.NDArray[np.void]]] = {}
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            for bucket in self._buckets(cube, depth):
                held = np.fromfile(bucket, self.new.layout.dtype)
                places = self._places(cube, held)
                taken, left = upper_nodes(places, depth)
                for key, numbers in taken.items():
                    above.setdefault(key, []).append(held[numbers])
                nodes = list(subtree(places, left, depth))
                yield from zip(
                    (k for k, _ in nodes), pool.map(self._encode, (held[n] for _, n in nodes)), strict=True
                )
            for key, parts in sorted(above.items()):
                yield key, self._encode(np.concatenate(parts))

    def _encode(self, records: npt.NDArray[np.void]) -> Encoded:
        from zembrel.points.las.writing import Tally
        from zembrel.points.laz.chunks import Codec

        block = PointBlock(records, self.new.layout, self.new.scaling)
        raw = np.ascontiguousarray(records).view(np.uint8).reshape(len(records), -1)
        return Encoded(Codec(self.new.layout).encode(raw), Tally.of(block))

    def _places(self, cube: Cube, records: npt.NDArray[np.void]) -> Places:
        block = PointBlock(records, self.new.layout, self.new.scaling)
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

    def _entered(self, writer: LasWriter, key: Key, encoded: Encoded) -> None:
        self._nodes.append(Node(*key, writer.position, len(encoded.data), encoded.tally.points))
        writer.append(encoded)

    def _complete(self, cube: Cube) -> None:
        """Enter into the info record where the hierarchy lies."""
        with self.path.open("r+b") as file:
            header = read_header(file.read(SIZES[4]), self.path)
            info = self._info(cube, header.extended_at + 60, 32 * len(self._nodes))
            file.seek(INFO_AT + _VLR)
            file.write(info.pack().data)
