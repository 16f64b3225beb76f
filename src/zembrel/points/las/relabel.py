"""Another CRS in the header of a LAS or LAZ file; its points stay as they lie, only further on in the file.

Source: LAS Specification 1.4 R15, sections 2.4 (public header block), 2.5 (records) and 2.7 (extended
records; a superseded one is marked as LASF_Spec 7); LAZ specification, chunk table; COPC specification 1.0.
"""

from __future__ import annotations

import shutil
import struct
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.geodesy.crs import CRS
from zembrel.points.las.copc import HIERARCHY, INFO
from zembrel.points.las.header import SIZES, WKT_BIT
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.place import KEYS, USER, WKT, write_place
from zembrel.points.las.source import LasSource
from zembrel.points.las.vlr import Record, read_records, write_records

_TELLING = {(USER, key) for key in (*KEYS, WKT)}
_ENCODING, _POINTS_AT, _WAVES_AT, _EXTENDED_AT = 6, 96, 227, 235  # bytes of the header
_SUPERSEDED = struct.pack("<16sH", b"LASF_Spec", 7)
_ROOT_AT, _ENTRY, _ENTRY_AT = 40, 32, 16  # of the info record; of an entry of the hierarchy


def write_with_crs(path: Path, out: Path, crs: CRS) -> None:
    """Write the file at `path` to `out` with `crs` in its header. Raises RefusedError if it has no room.

    All records but those of the CRS are kept as they are, in their order.
    """
    source = open_las(path)
    header, data = source.header, source.data
    near, trouble = read_records(data, header.size, header.records)
    if trouble is not None:
        raise RefusedError(f"{path} is not sound: {trouble}", "it cannot be mended in place", "convert it")
    wkt = header.format > 5 or (header.version >= (1, 4) and bool(header.encoding & WKT_BIT))
    kept = [record for record in near if record.key not in _TELLING]
    records = write_records([*kept, *write_place(crs, wkt=wkt)])
    ends = near[-1].at + near[-1].size if near else header.size
    between = data[ends : header.points_at].tobytes()  # what some writer put behind the records
    shift = header.size + len(records) + len(between) - header.points_at
    count = len(kept) + len(write_place(crs, wkt=wkt))
    head = bytearray(data[: header.size].tobytes())
    encoding = header.encoding | WKT_BIT if wkt else header.encoding & ~WKT_BIT
    struct.pack_into("<H", head, _ENCODING, encoding)
    struct.pack_into("<II", head, _POINTS_AT, header.points_at + shift, count)
    for at, value, least in (
        (_WAVES_AT, header.waves_at, SIZES[3]),
        (_EXTENDED_AT, header.extended_at, SIZES[4]),
    ):
        if value and header.size >= least:
            struct.pack_into("<Q", head, at, value + shift)
    with path.open("rb") as old, out.open("wb") as new:
        new.write(bytes(head) + records + between)
        old.seek(header.points_at)
        shutil.copyfileobj(old, new, 1 << 20)
    _mend(source, out, shift)


def _mend(source: LasSource, out: Path, shift: int) -> None:
    """Places in the file that count from its beginning, moved by `shift` bytes, and records out of force."""
    header, data = source.header, source.data
    with out.open("r+b") as file:

        def add(at: int, form: str) -> None:
            """Add the shift to the number that stood at byte `at` of the old file."""
            (value,) = struct.unpack(form, data[at : at + struct.calcsize(form)].tobytes())
            if value > 0:
                file.seek(at + shift)
                file.write(struct.pack(form, value + shift))

        if header.compressed and header.points_at + 8 <= len(data):
            add(header.points_at, "<q")
            if int(data[header.points_at : header.points_at + 8].view("<i8")[0]) == -1:
                add(len(data) - 8, "<q")
        far, _ = read_records(data, header.extended_at, header.extended, extended=True)
        for record in far:
            if record.key in _TELLING:
                file.seek(record.at - 60 + 2 + shift)
                file.write(_SUPERSEDED)
            if record.key == HIERARCHY:
                for n in range(record.size // _ENTRY):
                    add(record.at + n * _ENTRY + _ENTRY_AT, "<Q")
        first = source.records[0] if source.records else Record("", 0, b"")
        if first.key == INFO:  # it stays where it is, behind the header
            (root,) = struct.unpack_from("<Q", first.data, _ROOT_AT)
            file.seek(first.at + _ROOT_AT)
            file.write(struct.pack("<Q", root + shift))
