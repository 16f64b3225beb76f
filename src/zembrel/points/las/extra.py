"""Extra bytes: what the bytes behind a standard record mean.

Source: LAS Specification 1.4 R15, section 4 (extra bytes), tables 24 and 25; data types 11 to 30 are arrays
that
older files have.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np

from zembrel.points.las.vlr import Record
from zembrel.points.records import ExtraField

KEY = ("LASF_Spec", 4)
_FIELD = struct.Struct("<2sBB32s4s24s24s24s3d3d32s")  # 192 bytes
STORED = ("u1", "i1", "<u2", "<i2", "<u4", "<i4", "<u8", "<i8", "<f4", "<f8")
_HAS_SCALE, _HAS_OFFSET = 8, 16  # bits of options


def read_fields(data: bytes, spare: int) -> tuple[ExtraField, ...]:
    """The fields of `spare` extra bytes; those that no field tells of are one more, of unknown bytes."""
    fields: list[ExtraField] = []
    for at in range(0, len(data) - _FIELD.size + 1, _FIELD.size):
        field = _read(data[at : at + _FIELD.size], {f.name for f in fields})
        if field.size > spare:
            break
        fields.append(field)
        spare -= field.size
    if spare:
        fields.append(ExtraField("unknown_bytes", f"V{spare}"))
    return tuple(fields)


def _read(data: bytes, taken: set[str]) -> ExtraField:
    _, kind, options, name, _, _, _, _, *numbers, _ = _FIELD.unpack(data)
    called = name.partition(b"\0")[0].decode("utf-8", "replace").strip() or "unnamed"
    while called in taken:
        called += "_"
    if kind == 0 or kind > 30:
        return ExtraField(called, f"V{max(options, 1)}", described=data)
    count = (kind - 1) // 10 + 1
    scale = tuple(numbers[:count]) if options & _HAS_SCALE else ()
    offset = tuple(numbers[3 : 3 + count]) if options & _HAS_OFFSET else ()
    return ExtraField(called, STORED[(kind - 1) % 10], count, scale, offset, data)


def write_fields(fields: Sequence[ExtraField]) -> Record | None:
    """The record that tells of `fields`; None if there is nothing to tell."""
    told = [field.described or _describe(field) for field in fields if field.name != "unknown_bytes"]
    return Record(*KEY, b"".join(told), "extra bytes") if told else None


def _describe(field: ExtraField) -> bytes:
    name = field.name.encode()[:32]
    if field.type.startswith("V"):
        return _FIELD.pack(b"", 0, min(field.size, 255), name, b"", b"", b"", b"", *(0.0,) * 6, b"")
    kind = STORED.index(field.type) + 1 + 10 * (field.items - 1)
    options = (_HAS_SCALE if field.scale else 0) | (_HAS_OFFSET if field.offset else 0)
    scale, offset = (*field.scale, 0.0, 0.0, 0.0)[:3], (*field.offset, 0.0, 0.0, 0.0)[:3]
    return _FIELD.pack(b"", kind, options, name, b"", b"", b"", b"", *scale, *offset, b"")


def extra_field(name: str, dtype: np.dtype[np.generic]) -> ExtraField:
    """A new field for values of a type of NumPy: the narrowest that holds them."""
    kinds = {
        "b": "u1",
        "u": f"<u{dtype.itemsize}",
        "i": f"<i{dtype.itemsize}",
        "f": f"<f{max(dtype.itemsize, 4)}",
    }
    kind = kinds.get(dtype.kind, "<f8")
    return ExtraField(name, {"<u1": "u1", "<i1": "i1"}.get(kind, kind))
