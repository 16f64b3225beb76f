"""Fields of a record, little-endian, by their position in bytes."""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.typed import BYTES, INT, kernel


@kernel(INT, BYTES, INT)
def uint16_at(b, at):
    return np.int64(b[at]) | np.int64(b[at + 1]) << 8


@kernel(INT, BYTES, INT)
def int32_at(b, at):
    low = np.int64(b[at]) | np.int64(b[at + 1]) << 8
    return np.int64(np.int32(low | np.int64(b[at + 2]) << 16 | np.int64(b[at + 3]) << 24))


@kernel(INT, BYTES, INT)
def int64_at(b, at):
    return (int32_at(b, at) & 0xFFFFFFFF) | int32_at(b, at + 4) << 32


@kernel(types.void, BYTES, INT, INT)
def put_uint16(b, at, number):
    b[at] = number & 255
    b[at + 1] = (number >> 8) & 255


@kernel(types.void, BYTES, INT, INT)
def put_int32(b, at, number):
    b[at] = number & 255
    b[at + 1] = (number >> 8) & 255
    b[at + 2] = (number >> 16) & 255
    b[at + 3] = (number >> 24) & 255


@kernel(types.void, BYTES, INT, INT)
def put_int64(b, at, number):
    put_int32(b, at, number)
    put_int32(b, at + 4, number >> 32)
