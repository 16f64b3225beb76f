"""LAS and LAZ files as point sources, whatever their headers say."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from zembrel.errors import InputError
from zembrel.handles import FileBytes, Readable
from zembrel.points.las import extra
from zembrel.points.las.chunked import with_chunks
from zembrel.points.las.header import WKT_BIT, LasHeader, read_header
from zembrel.points.las.place import read_place
from zembrel.points.las.source import PART, LasSource, lost, short
from zembrel.points.las.vlr import PROVENANCE, Record, read_records
from zembrel.points.laz.items import KEY, read_compression
from zembrel.points.model import Bounds3, Cloud, Part
from zembrel.points.records import FORMATS, Layout
from zembrel.provenance import found


def open_las(path: Readable, *, salvage: bool = False) -> LasSource:
    """The file at `path`; salvage: take what is there of a broken one, and say what is lost. Raises
    InputError."""
    data = FileBytes(path)
    header = read_header(data[:375].tobytes(), path)
    remarks: list[str] = []
    records = _records(data, header, remarks)
    layout = _layout(path, header, records)
    crs, trouble = read_place(records, wkt_first=bool(header.encoding & WKT_BIT))
    remarks += [trouble] if trouble else []
    told = next((r for r in records if r.key == KEY), None)
    if header.compressed and told is None:
        raise InputError(
            f"{path} does not say how it is compressed", "its record of that is missing", "fetch it again"
        )
    cloud = Cloud(layout, header.scaling, crs, header.count, _bounds(header), _facts(header), ())
    story = next((record.data for record in records if record.key == PROVENANCE), b"")
    found(path if isinstance(path, Path) else path.file, story.decode("utf-8", "replace"))
    source = LasSource(path, header, tuple(records), cloud, ())
    if told is not None and header.compressed:
        compression = read_compression(told.data, layout, path)
        source = with_chunks(source, compression, remarks, salvage=salvage)
    else:
        source = _plain(source, len(data), remarks, salvage=salvage)
    if header.legacy_count not in (0, header.count):
        remarks.append(f"its old count says {header.legacy_count:,} points, its new one {header.count:,}")
    return replace(source, cloud=replace(source.cloud, remarks=tuple(remarks)))


def _records(data: FileBytes, header: LasHeader, remarks: list[str]) -> list[Record]:
    near, trouble = read_records(data, header.size, header.records)
    far, more = read_records(data, header.extended_at, header.extended, extended=True)
    remarks += [said for said in (trouble, more) if said]
    return near + far


def _layout(path: Readable, header: LasHeader, records: list[Record]) -> Layout:
    if header.format >= len(FORMATS):
        raise InputError(
            f"{path} has points of format {header.format}", "0 to 10 are known", "check the file"
        )
    least = Layout(header.format).dtype.itemsize
    if header.record_length < least:
        raise InputError(
            f"{path} has records of {header.record_length} bytes",
            f"those of format {header.format} have {least} at least",
            "its header is broken: fetch the file again",
        )
    if not all(np.isfinite([*header.scaling.scale, *header.scaling.offset])) or 0 in header.scaling.scale:
        raise InputError(
            f"{path} has scale {header.scaling.scale} and offset {header.scaling.offset}",
            "coordinates cannot be made with that",
            "its header is broken: fetch the file again",
        )
    told = b"".join(record.data for record in records if record.key == extra.KEY)
    return Layout(header.format, extra.read_fields(told, header.record_length - least))


def _bounds(header: LasHeader) -> Bounds3 | None:
    low, high = header.bounds[:3], header.bounds[3:]
    sound = all(np.isfinite(header.bounds)) and all(a <= b for a, b in zip(low, high, strict=True))
    return header.bounds if sound and header.count else None


def _facts(header: LasHeader) -> dict[str, object]:
    day = f"{header.year}, day {header.day}" if header.year else "not said"
    return {
        "version": f"{header.version[0]}.{header.version[1]}", "format": header.format,
        "record": header.record_length, "compressed": header.compressed, "system": header.system,
        "software": header.software, "made": day, "source": header.source, "returns": header.returns,
        "count": header.count, "bounds": header.bounds, "encoding": header.encoding,
    }  # fmt: skip


def _plain(source: LasSource, size: int, remarks: list[str], *, salvage: bool) -> LasSource:
    """The parts of an uncompressed file: what its header says, or what lies there."""
    header, length = source.header, source.cloud.layout.dtype.itemsize
    ends = [at for at in (header.waves_at, header.extended_at) if at >= header.points_at and at <= size]
    room = max(min([size, *ends]) - header.points_at, 0)
    there, count = room // length, header.count
    if count > there:
        if not salvage:
            raise short(source.path, there, count)
        remarks.append(lost(there, count))
        count = there
    elif count < there and room % length == 0:
        remarks.append(f"its header tells of {count:,} points, and {there:,} lie there: all are read")
        count = there
    starts = range(0, count, PART)
    parts = tuple(Part(n, min(PART, count - start)) for n, start in enumerate(starts))
    return replace(source, cloud=replace(source.cloud, count=count), parts=parts)
