"""The first 20 bytes of formats 0 to 5: specification, POINT10 version 2."""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.bytesin import int32_at, put_int32, put_uint16, uint16_at
from zembrel.points.laz.coder import K, decode_symbol, encode_symbol, symbol_model
from zembrel.points.laz.history import MEDIAN, add_to_median, return_map
from zembrel.points.laz.integers import (
    decode_int32,
    decode_uint16,
    encode_int32,
    encode_uint16,
    integer_models,
)
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

_BYTE = symbol_model(256)
# arena: which fields change; angles of either scan direction; intensities; source; x, y, z; then bytes by
# the last
_ANGLE = symbol_model(64)
_INTENSITY = _ANGLE + 2 * _BYTE
_SOURCE = _INTENSITY + integer_models(4)
_DX = _SOURCE + integer_models(1)
_DY = _DX + integer_models(2)
_Z = _DY + integer_models(22)
_FLAGS = _Z + integer_models(20)
_CLASS = _FLAGS + 256 * _BYTE
_USER = _CLASS + 256 * _BYTE
MODELS_OF_POINT10 = _USER + 256 * _BYTE
# history: medians of differences in x and y and the last intensity by return map, the last height by level
_MEDIAN_X, _MEDIAN_Y, _LAST_INTENSITY, _HEIGHT = 0, 16 * MEDIAN, 32 * MEDIAN, 32 * MEDIAN + 16
HISTORY_OF_POINT10 = _HEIGHT + 8


@kernel(INT, STATE)
def class_of_x(s):
    """Specification: the context of y from the class of x, even and 20 at most."""
    return min(s[K] & ~1, 20)


@kernel(INT, INT, INT)
def class_of_xy(one, other):
    """Specification: the context of z from the mean class of x and y, even and 18 at most."""
    return min(((one + other) >> 1) & ~1, 18)


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def decode_point10(s, data, m, o, h, p, r, at, before):
    """The item at r[at], after the one at r[before]."""
    changed = decode_symbol(s, data, m, o, 64)
    flags = np.int64(r[before + 14])
    if changed & 32:
        flags = decode_symbol(s, data, m, o + _FLAGS + flags * _BYTE, 256)
    r[at + 14] = flags
    returns, number = (flags >> 3) & 7, flags & 7
    context = return_map(returns, number)
    level = abs(returns - number)
    single = 1 if returns == 1 else 0
    if changed & 16:
        was = h[p + _LAST_INTENSITY + context]
        h[p + _LAST_INTENSITY + context] = decode_uint16(s, data, m, o + _INTENSITY, min(context, 3), was)
    put_uint16(r, at + 12, h[p + _LAST_INTENSITY + context])
    for k in range(15, 20):
        r[at + k] = r[before + k]
    if changed & 15:
        if changed & 8:
            r[at + 15] = decode_symbol(s, data, m, o + _CLASS + np.int64(r[before + 15]) * _BYTE, 256)
        if changed & 4:
            step = decode_symbol(s, data, m, o + _ANGLE + (flags >> 6 & 1) * _BYTE, 256)
            r[at + 16] = (np.int64(r[before + 16]) + step) & 255
        if changed & 2:
            r[at + 17] = decode_symbol(s, data, m, o + _USER + np.int64(r[before + 17]) * _BYTE, 256)
        if changed & 1:
            put_uint16(r, at + 18, decode_uint16(s, data, m, o + _SOURCE, 0, uint16_at(r, before + 18)))
    median = p + _MEDIAN_X + context * MEDIAN
    step = decode_int32(s, data, m, o + _DX, single, h[median + 2])
    add_to_median(h, median, step)
    put_int32(r, at, int32_at(r, before) + step)
    k = s[K]
    median = p + _MEDIAN_Y + context * MEDIAN
    step = decode_int32(s, data, m, o + _DY, single + class_of_x(s), h[median + 2])
    add_to_median(h, median, step)
    put_int32(r, at + 4, int32_at(r, before + 4) + step)
    height = p + _HEIGHT + level
    h[height] = decode_int32(s, data, m, o + _Z, single + class_of_xy(k, s[K]), h[height])
    put_int32(r, at + 8, h[height])


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def encode_point10(s, out, m, o, h, p, r, at, before):
    """The item at r[at], after the one at r[before]."""
    flags = np.int64(r[at + 14])
    returns, number = (flags >> 3) & 7, flags & 7
    context = return_map(returns, number)
    level = abs(returns - number)
    single = 1 if returns == 1 else 0
    intensity, was = uint16_at(r, at + 12), h[p + _LAST_INTENSITY + context]
    source, source_was = uint16_at(r, at + 18), uint16_at(r, before + 18)
    changed = 32 if r[at + 14] != r[before + 14] else 0
    changed |= 16 if intensity != was else 0
    changed |= 8 if r[at + 15] != r[before + 15] else 0
    changed |= 4 if r[at + 16] != r[before + 16] else 0
    changed |= 2 if r[at + 17] != r[before + 17] else 0
    changed |= 1 if source != source_was else 0
    encode_symbol(s, out, m, o, 64, changed)
    if changed & 32:
        encode_symbol(s, out, m, o + _FLAGS + np.int64(r[before + 14]) * _BYTE, 256, flags)
    if changed & 16:
        encode_uint16(s, out, m, o + _INTENSITY, min(context, 3), was, intensity)
        h[p + _LAST_INTENSITY + context] = intensity
    if changed & 8:
        encode_symbol(s, out, m, o + _CLASS + np.int64(r[before + 15]) * _BYTE, 256, np.int64(r[at + 15]))
    if changed & 4:
        step = (np.int64(r[at + 16]) - np.int64(r[before + 16])) & 255
        encode_symbol(s, out, m, o + _ANGLE + (flags >> 6 & 1) * _BYTE, 256, step)
    if changed & 2:
        encode_symbol(s, out, m, o + _USER + np.int64(r[before + 17]) * _BYTE, 256, np.int64(r[at + 17]))
    if changed & 1:
        encode_uint16(s, out, m, o + _SOURCE, 0, source_was, source)
    median = p + _MEDIAN_X + context * MEDIAN
    step = np.int64(np.int32(int32_at(r, at) - int32_at(r, before)))
    encode_int32(s, out, m, o + _DX, single, h[median + 2], step)
    add_to_median(h, median, step)
    k = s[K]
    median = p + _MEDIAN_Y + context * MEDIAN
    step = np.int64(np.int32(int32_at(r, at + 4) - int32_at(r, before + 4)))
    encode_int32(s, out, m, o + _DY, single + class_of_x(s), h[median + 2], step)
    add_to_median(h, median, step)
    height = p + _HEIGHT + level
    z = int32_at(r, at + 8)
    encode_int32(s, out, m, o + _Z, single + class_of_xy(k, s[K]), h[height], z)
    h[height] = z
