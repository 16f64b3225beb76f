"""Where the waveform of a point lies: specification, WAVEPACKET13 version 1 and WAVEPACKET14 version 3."""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.bytesin import int32_at, int64_at, put_int32, put_int64
from zembrel.points.laz.coder import decode_raw, decode_symbol, encode_raw, encode_symbol, symbol_model
from zembrel.points.laz.integers import decode_int32, encode_int32, integer_models
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

# arena: index of the descriptor; how the offset follows the last one; offsets, sizes, return points,
# parameters
_FOUR = symbol_model(4)
_HOW = symbol_model(256)
_OFFSET = _HOW + 4 * _FOUR
_SIZE = _OFFSET + integer_models(1)
_RETURN = _SIZE + integer_models(1)
_XYZ = _RETURN + integer_models(1)
MODELS_OF_WAVE = _XYZ + integer_models(3)
HISTORY_OF_WAVE = 2  # the last difference of offsets, and how the last offset followed
_SAME, _NEXT, _NEAR, _FAR = 0, 1, 2, 3  # WAVEPACKET13: where an offset lies, as against the last one


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def decode_wave(s, data, m, o, h, p, r, at, before):
    """The 29 bytes at r[at], after those at r[before]."""
    r[at] = decode_symbol(s, data, m, o, 256)
    how = decode_symbol(s, data, m, o + _HOW + h[p + 1] * _FOUR, 4)
    h[p + 1] = how
    offset = int64_at(r, before + 1)
    if how == _NEXT:
        offset += int32_at(r, before + 9)
    elif how == _NEAR:
        h[p] = decode_int32(s, data, m, o + _OFFSET, 0, h[p])
        offset += h[p]
    elif how == _FAR:
        offset = decode_raw(s, data, 32)
        offset |= decode_raw(s, data, 32) << 32
    put_int64(r, at + 1, offset)
    put_int32(r, at + 9, decode_int32(s, data, m, o + _SIZE, 0, int32_at(r, before + 9)))
    put_int32(r, at + 13, decode_int32(s, data, m, o + _RETURN, 0, int32_at(r, before + 13)))
    for k in range(3):
        put_int32(r, at + 17 + 4 * k, decode_int32(s, data, m, o + _XYZ, k, int32_at(r, before + 17 + 4 * k)))


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def encode_wave(s, out, m, o, h, p, r, at, before):
    """The other way of `decode_wave`."""
    encode_symbol(s, out, m, o, 256, np.int64(r[at]))
    offset = int64_at(r, at + 1)
    away = offset - int64_at(r, before + 1)
    how = _FAR
    if away == 0:
        how = _SAME
    elif away == int32_at(r, before + 9):
        how = _NEXT
    elif away == np.int64(np.int32(away)):
        how = _NEAR
    encode_symbol(s, out, m, o + _HOW + h[p + 1] * _FOUR, 4, how)
    h[p + 1] = how
    if how == _NEAR:
        encode_int32(s, out, m, o + _OFFSET, 0, h[p], away)
        h[p] = away
    elif how == _FAR:
        encode_raw(s, out, 32, offset & 0xFFFFFFFF)
        encode_raw(s, out, 32, (offset >> 32) & 0xFFFFFFFF)
    encode_int32(s, out, m, o + _SIZE, 0, int32_at(r, before + 9), int32_at(r, at + 9))
    encode_int32(s, out, m, o + _RETURN, 0, int32_at(r, before + 13), int32_at(r, at + 13))
    for k in range(3):
        was, now = int32_at(r, before + 17 + 4 * k), int32_at(r, at + 17 + 4 * k)
        encode_int32(s, out, m, o + _XYZ, k, was, now)
