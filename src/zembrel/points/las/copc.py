"""The octree of cloud-optimized files: where its nodes lie, how fine they are, and what tells of it.

Source: COPC specification 1.0: info record (160 bytes, the first one, at byte 375), hierarchy pages of
32-byte entries
in an extended record. All points of a file are those of all nodes; each level halves the distance between
points.
"""

from __future__ import annotations

import struct
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.points.las.source import LasSource
from zembrel.points.las.vlr import Record
from zembrel.points.model import Bounds3, Part

INFO, HIERARCHY = ("copc", 1), ("copc", 1000)
INFO_AT = 375  # byte of the info record in a file
_INFO = struct.Struct("<5dQQdd88x")
_ENTRY = np.dtype(
    [
        ("level", "<i4"),
        ("x", "<i4"),
        ("y", "<i4"),
        ("z", "<i4"),
        ("at", "<u8"),
        ("size", "<i4"),
        ("points", "<i4"),
    ]
)
_PAGES, _LEVELS = 100_000, 32
Chunks = npt.NDArray[np.int64]


class Info(NamedTuple):
    """The cube of the octree, the distance of points in its root, and where its hierarchy lies."""

    x: float
    y: float
    z: float
    half: float
    spacing: float
    root_at: int = 0
    root_size: int = 0
    first_time: float = 0.0
    last_time: float = 0.0

    def pack(self) -> Record:
        return Record(*INFO, _INFO.pack(*self), "COPC info")

    def bounds(self, level: int, x: int, y: int, z: int) -> Bounds3:
        """The cube of a node."""
        size = 2 * self.half / 2**level
        low = (self.x - self.half + x * size, self.y - self.half + y * size, self.z - self.half + z * size)
        return (*low, low[0] + size, low[1] + size, low[2] + size)


class CopcNode(NamedTuple):
    """A node of the octree: its key, and where its chunk lies."""

    level: int
    x: int
    y: int
    z: int
    at: int
    size: int
    points: int


def read_info(source: LasSource) -> Info | None:
    """What the first record tells of an octree; None if it tells of none."""
    if not source.records or source.records[0].key != INFO or len(source.records[0].data) < _INFO.size:
        return None
    info = Info(*_INFO.unpack_from(source.records[0].data))
    sound = all(np.isfinite(info[:5])) and info.half > 0 and info.spacing > 0
    return info if sound else None


def nodes_of(source: LasSource, info: Info) -> list[CopcNode]:
    """All nodes with points. Raises InputError for a hierarchy that leaves the file or goes in circles."""
    found: list[CopcNode] = []
    pages = [(info.root_at, info.root_size)]
    seen: set[int] = set()
    while pages:
        at, size = pages.pop()
        if at in seen or len(seen) > _PAGES or at < 0 or size < 0 or at + size > len(source.data):
            raise InputError(
                f"{source.path} has a broken hierarchy",
                f"a page of {size:,} bytes at {at:,} is none",
                "fetch it again",
            )
        seen.add(at)
        rows = np.frombuffer(source.data[at : at + size // 32 * 32].tobytes(), _ENTRY)
        pages += [(int(row["at"]), int(row["size"])) for row in rows[rows["points"] == -1]]
        for row in rows[rows["points"] > 0].tolist():
            node = CopcNode(*row)
            if not 0 <= node.level < _LEVELS or node.size < 0 or node.at + node.size > len(source.data):
                raise InputError(
                    f"{source.path} has a broken hierarchy",
                    f"node {node[:4]} lies outside of it",
                    "fetch it again",
                )
            found.append(node)
    return sorted(found, key=lambda node: node.at)


def with_octree(source: LasSource, resolution: float | None) -> LasSource:
    """`source` with the nodes of its octree as parts: as fine as `resolution` asks, all if None.

    Raises InputError for a file without an octree.
    """
    info = read_info(source)
    if info is None:
        raise InputError(
            f"{source.path} has no octree",
            "its first record tells of none",
            "name it .laz, or write it anew as .copc.laz",
        )
    nodes = nodes_of(source, info)
    if resolution is not None:
        finest = int(np.ceil(np.log2(max(info.spacing / resolution, 1.0)) - 1e-9))
        nodes = [node for node in nodes if node.level <= finest]
    parts = tuple(Part(n, node.points, info.bounds(*node[:4]), node.level) for n, node in enumerate(nodes))
    chunks = np.array([(node.at, node.size, 0) for node in nodes], np.int64).reshape(-1, 3)
    count = sum(node.points for node in nodes)
    remarks = source.cloud.remarks
    if resolution is None and count != source.header.count:
        remarks = (
            *remarks,
            f"its header tells of {source.header.count:,} points, its octree holds {count:,}",
        )
    return replace(
        source, cloud=replace(source.cloud, count=count, remarks=remarks), parts=parts, chunks=chunks
    )


def pack_hierarchy(nodes: list[CopcNode]) -> Record:
    """One page of all nodes."""
    return Record(*HIERARCHY, np.array([tuple(node) for node in nodes], _ENTRY).tobytes(), "COPC hierarchy")
