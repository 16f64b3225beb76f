"""The header block of LAS 1.0 to 1.4, read and made.

Source: LAS Specification 1.4 R15, table 3 (public header block), and the tables of 1.0 to 1.3 for what they
lack.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from zembrel.errors import InputError
from zembrel.points.model import Bounds3, Scaling

SIGNATURE = b"LASF"
SIZES = {0: 227, 1: 227, 2: 227, 3: 235, 4: 375}  # of the header, by minor version
_HEAD = struct.Struct("<4sHH16sBB32s32sHHHIIBHI5I3d3d6d")  # 227 bytes
_COMPRESSED = 0x80  # LAZ specification: bit 7 of the point data format
WKT_BIT, INTERNAL_WAVES_BIT, EXTERNAL_WAVES_BIT = 16, 2, 4  # LAS 1.4, table 4: global encoding


@dataclass(frozen=True)
class LasHeader:
    """The public header block. Numbers are as the file has them, right or wrong."""

    version: tuple[int, int] = (1, 4)
    format: int = 6
    record_length: int = 30
    scaling: Scaling = field(default_factory=Scaling)
    bounds: Bounds3 = (0.0,) * 6
    count: int = 0
    returns: tuple[int, ...] = ()  # points by return, 5 or 15
    compressed: bool = False
    source: int = 0
    encoding: int = 0
    guid: bytes = bytes(16)
    system: str = "ZEMBREL"
    software: str = "Zembrel"
    day: int = 0
    year: int = 0
    size: int = 375
    points_at: int = 375
    records: int = 0  # variable-length ones
    waves_at: int = 0
    extended_at: int = 0
    extended: int = 0  # extended variable-length records
    legacy_count: int = 0

    def pack(self) -> bytes:
        """The header as bytes of its version."""
        legacy = self.version < (1, 4) or (self.format < 6 and self.count < 2**32)
        by_return = [*self.returns, *[0] * 15][:15]
        old = [n if legacy and n < 2**32 else 0 for n in (self.count, *by_return[:5])]
        x0, y0, z0, x1, y1, z1 = self.bounds
        data = _HEAD.pack(
            SIGNATURE, self.source, self.encoding, self.guid, *self.version, _padded(self.system),
            _padded(self.software), self.day, self.year, SIZES[self.version[1]], self.points_at, self.records,
            self.format | (_COMPRESSED if self.compressed else 0), self.record_length, *old,
            *self.scaling.scale, *self.scaling.offset, x1, x0, y1, y0, z1, z0,
        )  # fmt: skip
        if self.version >= (1, 3):
            data += struct.pack("<Q", self.waves_at)
        if self.version >= (1, 4):
            data += struct.pack("<QIQ15Q", self.extended_at, self.extended, self.count, *by_return)
        return data


def read_header(data: bytes, path: object) -> LasHeader:
    """The header at the beginning of `data`. Raises InputError for what is none, or too short."""
    if len(data) < SIZES[0] or data[:4] != SIGNATURE:
        what = "ends within its header" if data[:4] == SIGNATURE else "is no LAS file"
        raise InputError(
            f"{path} {what}", f"it begins with {data[:4]!r}", "check the file, or fetch it again"
        )
    (_, source, encoding, guid, major, minor, system, software, day, year, size, points_at, records, kind,
     length, count, *rest) = _HEAD.unpack_from(data)  # fmt: skip
    returns, (scale, offset, ends) = tuple(rest[:5]), (rest[5:8], rest[8:11], rest[11:17])
    waves_at = extended_at = extended = 0
    legacy = count
    if (major, minor) >= (1, 3) and size >= SIZES[3] and len(data) >= SIZES[3]:
        (waves_at,) = struct.unpack_from("<Q", data, 227)
    if (major, minor) >= (1, 4) and size >= SIZES[4] and len(data) >= SIZES[4]:
        extended_at, extended, new, *fifteen = struct.unpack_from("<QIQ15Q", data, 235)
        count, returns = (new, tuple(fifteen)) if new else (count, returns)
    if major != 1 or minor not in SIZES:
        raise InputError(
            f"{path} is LAS {major}.{minor}", "1.0 to 1.4 are known", "convert it elsewhere first"
        )
    return LasHeader(
        (major, minor), kind & 0x3F, length, Scaling((*scale,), (*offset,)),
        (ends[1], ends[3], ends[5], ends[0], ends[2], ends[4]), count, returns, bool(kind & _COMPRESSED),
        source, encoding, guid, _text(system), _text(software), day, year, size, points_at, records,
        waves_at, extended_at, extended, legacy,
    )  # fmt: skip


def _padded(text: str) -> bytes:
    return text.encode("ascii", "replace")[:32]


def _text(data: bytes) -> str:
    return data.partition(b"\0")[0].decode("latin-1").strip()
