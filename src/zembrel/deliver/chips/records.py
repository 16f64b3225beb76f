"""Record files of Example messages (`.tfrecord`), written and read.

Sources: the public record framing (length, its masked CRC-32C, data, its masked CRC-32C, little-endian);
Protocol Buffers encoding of Example { Features { map<string, Feature> } }, Feature of bytes, floats or int64.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from zembrel.compiling import kernel
from zembrel.errors import ResourceError

Feature = bytes | list[int] | list[float]
_POLYNOMIAL = 0x82F63B78  # CRC-32C (G. Castagnoli et al., 1993), reflected


def _table() -> Any:
    rest = np.arange(256, dtype=np.uint32)
    for _ in range(8):
        rest = np.where(rest & 1, (rest >> 1) ^ np.uint32(_POLYNOMIAL), rest >> 1).astype(np.uint32)
    return rest


_TABLE = _table()


@kernel
def _crc(data, table):  # type: ignore[no-untyped-def]
    rest = np.uint32(0xFFFFFFFF)
    for n in range(data.size):
        rest = table[(rest ^ data[n]) & np.uint32(0xFF)] ^ (rest >> np.uint32(8))
    return rest ^ np.uint32(0xFFFFFFFF)


def masked_crc(data: bytes) -> int:
    """The checksum of a record, turned by 15 bits and moved, as the framing asks."""
    crc = int(_crc(np.frombuffer(data, np.uint8), _TABLE))
    return ((crc >> 15 | crc << 17) + 0xA282EAD8) & 0xFFFFFFFF


def example(features: Mapping[str, Feature]) -> bytes:
    """An Example message of named features."""
    entries = b"".join(
        _field(1, _field(1, name.encode()) + _field(2, _feature(value)))
        for name, value in sorted(features.items())
    )
    return _field(1, entries)


def _feature(value: Feature) -> bytes:
    if isinstance(value, bytes):
        return _field(1, _field(1, value))
    if value and isinstance(value[0], float):
        return _field(2, _field(1, struct.pack(f"<{len(value)}f", *value)))
    return _field(3, _field(1, b"".join(_varint(int(number) & (1 << 64) - 1) for number in value)))


def _field(number: int, data: bytes) -> bytes:
    return _varint(number << 3 | 2) + _varint(len(data)) + data


def _varint(value: int) -> bytes:
    made = bytearray()
    while value > 127:
        made.append(value & 127 | 128)
        value >>= 7
    made.append(value)
    return bytes(made)


def write_record(file: BinaryIO, data: bytes) -> None:
    """A record behind those that are there."""
    length = struct.pack("<Q", len(data))
    file.write(length + struct.pack("<I", masked_crc(length)) + data + struct.pack("<I", masked_crc(data)))


def read_records(path: Path) -> Iterator[bytes]:
    """The records of a file. Raises ResourceError for one whose checksums are not those of its bytes."""
    with path.open("rb") as file:
        while head := file.read(12):
            length, crc = struct.unpack("<QI", head)
            data, tail = file.read(length), file.read(4)
            if crc != masked_crc(head[:8]) or tail != struct.pack("<I", masked_crc(data)):
                raise ResourceError(f"{path.name} is damaged", "a checksum does not hold", "write it again")
            yield data
