"""LAS and LAZ files written: records as they come, the header from what was written."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import BinaryIO, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.clock import time_of_writing
from zembrel.geodesy.crs import CRS
from zembrel.points import laz
from zembrel.points.las import extra
from zembrel.points.las.header import (
    EXTERNAL_WAVES_BIT,
    INTERNAL_WAVES_BIT,
    SIZES,
    WKT_BIT,
    LasHeader,
)
from zembrel.points.las.place import USER, write_place
from zembrel.points.las.source import LasSource
from zembrel.points.las.vlr import PROVENANCE, Record, write_records
from zembrel.points.laz.items import KEY, USUAL, VARIABLE, compression_for, write_compression
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import Layout, values_of
from zembrel.points.sink import PointSink
from zembrel.provenance import document

_WAVES = ("LASF_Spec", 65535)  # LAS 1.4, section 5: waveform data packets
_MOST_TOLD = 60_000  # letters of a record
_OURS = (KEY, extra.KEY, ("copc", 1), ("copc", 1000), PROVENANCE)  # records that are made anew
_COPY = 1 << 24  # bytes that are copied at a time


@dataclass(frozen=True, eq=False)
class NewFile:
    """What a new file is to be: layout, scaling, CRS and packing, and what is carried from another one."""

    layout: Layout
    scaling: Scaling
    crs: CRS | None
    compressed: bool
    points_at_most: int = 0
    version: tuple[int, int] | None = None  # if not the least that holds all
    chunk: int = USUAL
    like: LasSource | None = None  # whose records and marks go along
    first: tuple[Record, ...] = ()  # records that come before all others
    columns: tuple[str, ...] | None = None  # of a table, if not all values

    def header(self) -> LasHeader:
        """The header, as far as it is known before a point is written."""
        least = (1, 4) if self.layout.long or self.points_at_most >= 2**32 else (1, 2)
        least = max(least, (1, 3)) if self.layout.has_waves else least
        asked = self.version or (self.like.header.version if self.like else least)
        version = max(least, asked)
        encoding = self.like.header.encoding if self.like else 0
        keep = 0b1001 | (INTERNAL_WAVES_BIT | EXTERNAL_WAVES_BIT if self.layout.has_waves else 0)
        encoding = encoding & keep | (WKT_BIT if self.layout.long else 0)
        now = time_of_writing().timetuple()
        return LasHeader(
            version, self.layout.format, self.layout.dtype.itemsize, self.scaling, compressed=self.compressed,
            source=self.like.header.source if self.like else 0, encoding=encoding,
            guid=self.like.header.guid if self.like else bytes(16), day=now.tm_yday, year=now.tm_year,
        )  # fmt: skip

    def records(self) -> list[Record]:
        """The variable-length records in front of the points."""
        made = list(self.first)
        if self.crs is not None:
            made += write_place(self.crs, wkt=self.layout.long)
        told = extra.write_fields(self.layout.extra)
        made += [told] if told else []
        if self.compressed:
            made.append(write_compression(compression_for(self.layout, self.chunk)))
        provenance = document(_MOST_TOLD)
        made += (
            [Record(*PROVENANCE, provenance.encode(), "how it came about")] if provenance is not None else []
        )
        return made + [r for r in self.carried() if len(r.data) < 2**16]

    def carried(self) -> list[Record]:
        """Records of the file this one is like, but for those that are made anew, and waveforms."""
        if self.like is None:
            return []
        own_crs = self.crs is None and not self.layout.long
        return [
            r
            for r in self.like.records
            if r.key not in (*_OURS, _WAVES) and (r.user != USER or own_crs) and r.data
        ]

    def waves(self) -> Record | None:
        """The waveforms inside the file this one is like."""
        if self.like is None or not self.layout.has_waves:
            return None
        return next((r for r in self.like.records if r.key == _WAVES), None) or _older_waves(self.like)

    def waves_beside(self) -> Path | None:
        """The file of waveforms beside the one this one is like, if it has one. LAS 1.4, section 5:
        name.wdp."""
        if self.like is None or not self.layout.has_waves or not isinstance(self.like.path, Path):
            return None
        beside = self.like.path.with_suffix(".wdp")
        return beside if self.like.header.encoding & EXTERNAL_WAVES_BIT and beside.is_file() else None


def _older_waves(like: LasSource) -> Record | None:
    """LAS 1.3: waveforms stand in a record that only the header tells of."""
    at, data = like.header.waves_at, like.data
    if not like.header.encoding & INTERNAL_WAVES_BIT or not 0 < at <= len(data) - 60:
        return None
    size = int(np.asarray(data[at + 20 : at + 28]).copy().view("<u8")[0])
    return Record(*_WAVES, b"", "waveforms", at + 60, min(size, len(data) - at - 60))


class ChunkTally(NamedTuple):
    """What the header has to say of some points."""

    points: int
    returns: npt.NDArray[np.int64]  # 15
    low: npt.NDArray[np.int64]  # stored x, y and z
    high: npt.NDArray[np.int64]

    @classmethod
    def of(cls, block: PointBlock) -> ChunkTally:
        stored = [block.records[axis] for axis in "XYZ"]
        number = values_of(block.records, block.layout, "return")
        returns = np.bincount(number, minlength=16)[1:].astype(np.int64)
        low = np.array([int(v.min()) for v in stored], np.int64)
        return cls(len(block), returns, low, np.array([int(v.max()) for v in stored], np.int64))


class EncodedChunk(NamedTuple):
    """A chunk on its way into the file."""

    data: bytes
    tally: ChunkTally


@dataclass(frozen=True)
class LasEncoder:
    """Chunks of records of one layout."""

    layout: Layout
    compressed: bool

    def encode(self, block: PointBlock) -> EncodedChunk:
        """A chunk of points, one at least, of the layout and scaling of the file."""
        records = np.ascontiguousarray(block.records)
        if not self.compressed:
            return EncodedChunk(records.tobytes(), ChunkTally.of(block))

        raw = records.view(np.uint8).reshape(len(records), -1)
        return EncodedChunk(laz.chunks.ChunkCodec(self.layout).encode(raw), ChunkTally.of(block))


def las_sink(path: Path, new: NewFile) -> PointSink:
    """A sink for a LAS or LAZ file."""
    chunk = new.chunk if new.compressed and new.chunk != VARIABLE else USUAL
    return PointSink(chunk, LasEncoder(new.layout, new.compressed), LasStore(path, new))


@dataclass
class LasStore:
    """A file under way: chunks as they come, the header from what was written."""

    path: Path
    new: NewFile
    tables: list[tuple[int, int]] = field(default_factory=list)  # points and bytes of each chunk
    tallies: list[ChunkTally] = field(default_factory=list)
    extended: list[Record] = field(default_factory=list)  # records that go behind the points

    def __post_init__(self) -> None:
        records = self.new.records()
        self._head = self.new.header()
        size = SIZES[self._head.version[1]]
        packed = write_records(records)
        self._head = replace(self._head, points_at=size + len(packed), records=len(records))
        self._file: BinaryIO = self.path.open("wb")
        self._file.write(bytes(size) + packed)
        if self.new.compressed:
            self._file.write(bytes(8))  # the place of the table of chunks

    @property
    def position(self) -> int:
        """The byte that comes next."""
        return self._file.tell()

    def append(self, encoded: EncodedChunk) -> None:
        self._file.write(encoded.data)
        self.tallies.append(encoded.tally)
        self.tables.append((encoded.tally.points, len(encoded.data)))

    def finish(self) -> None:
        """Complete the file: table of chunks, records behind the points, header."""
        if self.new.compressed:
            self._write_table()
        header = self._described()
        behind = [*self.extended, *(r for r in self.new.carried() if len(r.data) >= 2**16)]
        waves = self.new.waves()
        if self._head.version < (1, 4):
            behind = []
        if behind or waves:
            header = replace(header, extended_at=self._file.tell(), extended=len(behind) + bool(waves))
        self._file.write(write_records(behind, extended=True))
        if waves is not None:
            header = replace(header, waves_at=self._file.tell())
            self._copy(waves)
        self._file.seek(0)
        self._file.write(header.pack())
        self._file.close()

    def abort(self) -> None:
        self._file.close()

    def _write_table(self) -> None:

        at = self._file.tell()
        numbers = np.array(self.tables, np.int64).reshape(-1, 2)
        self._file.write(laz.chunks.write_table(numbers, variable=self.new.chunk == VARIABLE))
        end = self._file.tell()
        self._file.seek(self._head.points_at)
        self._file.write(at.to_bytes(8, "little"))
        self._file.seek(end)

    def _described(self) -> LasHeader:
        """The header with counts and bounds of what was written."""
        if not self.tallies:
            return replace(self._head, returns=(0,) * 15)
        low = np.min([tally.low for tally in self.tallies], axis=0)
        high = np.max([tally.high for tally in self.tallies], axis=0)
        scaling = self.new.scaling
        ends = [
            float(scaling.coordinates(v, axis))
            for v in (low, high)
            for axis, v in zip(range(3), v, strict=True)
        ]
        returns = np.sum([tally.returns for tally in self.tallies], axis=0)
        if self._head.version < (1, 4):
            returns = np.array([*returns[:5], *[0] * 10])
        count = sum(tally.points for tally in self.tallies)
        return replace(self._head, bounds=tuple(ends), count=count, returns=tuple(returns.tolist()))  # type: ignore[arg-type]

    def _copy(self, waves: Record) -> None:
        """Waveforms from the other file, a piece at a time."""
        assert self.new.like is not None
        head = write_records([waves._replace(data=b"")], extended=True)
        self._file.write(head[:20] + waves.size.to_bytes(8, "little") + head[28:])
        for at in range(waves.at, waves.at + waves.size, _COPY):
            self._file.write(self.new.like.data[at : min(at + _COPY, waves.at + waves.size)].tobytes())
