"""Colours, and bytes of which nothing is known: specification, RGB12, RGB14, RGBNIR14, BYTE and BYTE14."""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.bytesin import uint16_at
from zembrel.points.laz.coder import decode_symbol, encode_symbol, symbol_model
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

BYTE_MODEL = symbol_model(256)
_RGB_USED = symbol_model(128)
MODELS_OF_RGB = _RGB_USED + 6 * BYTE_MODEL
_NIR_USED = symbol_model(4)
MODELS_OF_NIR = _NIR_USED + 2 * BYTE_MODEL


@kernel(INT, INT)
def _clamped(v):
    return min(max(v, 0), 255)


@kernel(INT, INT)
def _half(v):
    """Towards zero, as the specification's division of integers."""
    return (v + 1) >> 1 if v < 0 else v >> 1


@kernel(INT, STATE, BYTES, MODELS, INT, INT)
def _decode_byte(s, data, m, o, predicted):
    return (predicted + decode_symbol(s, data, m, o, 256)) & 255


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def decode_rgb(s, data, m, o, r, at, before):
    """Red, green and blue at r[at], after those at r[before].

    Specification, RGB12 version 2: bits 0 to 5 tell which bytes differ, bit 6 that it is no grey; green is
    predicted from the change of red, blue from the mean change of both, low bytes and high bytes apart.
    """
    used = decode_symbol(s, data, m, o, 128)
    for high in range(2):
        model = o + _RGB_USED + high * BYTE_MODEL
        a, b = at + high, before + high
        red, green, blue = np.int64(r[b]), np.int64(r[b + 2]), np.int64(r[b + 4])
        now = red
        if used & (1 << high):
            now = _decode_byte(s, data, m, model, red)
        r[a] = now
        if used & 64 == 0:
            r[a + 2] = now
            r[a + 4] = now
    if used & 64 == 0:
        return
    # the order of the specification: low green, low blue, high green, high blue
    for high in range(2):
        model = o + _RGB_USED + high * BYTE_MODEL
        a, b = at + high, before + high
        green, blue = np.int64(r[b + 2]), np.int64(r[b + 4])
        change = np.int64(r[a]) - np.int64(r[b])
        now = green
        if used & (4 << high):
            now = _decode_byte(s, data, m, model + 2 * BYTE_MODEL, _clamped(change + green))
        if used & (16 << high):
            change = _half(change + now - green)
            r[a + 4] = _decode_byte(s, data, m, model + 4 * BYTE_MODEL, _clamped(change + blue))
        else:
            r[a + 4] = blue
        r[a + 2] = now


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def encode_rgb(s, out, m, o, r, at, before):
    """The other way of `decode_rgb`."""
    used = 0
    for k in range(6):
        if r[at + k] != r[before + k]:
            used |= 1 << k
    red = uint16_at(r, at)
    if uint16_at(r, at + 2) != red or uint16_at(r, at + 4) != red:
        used |= 64
    encode_symbol(s, out, m, o, 128, used)
    for high in range(2):
        if used & (1 << high):
            change = (np.int64(r[at + high]) - np.int64(r[before + high])) & 255
            encode_symbol(s, out, m, o + _RGB_USED + high * BYTE_MODEL, 256, change)
    if used & 64 == 0:
        return
    for high in range(2):
        model = o + _RGB_USED + high * BYTE_MODEL
        a, b = at + high, before + high
        green, blue = np.int64(r[b + 2]), np.int64(r[b + 4])
        now = np.int64(r[a + 2])
        change = np.int64(r[a]) - np.int64(r[b])
        if used & (4 << high):
            encode_symbol(s, out, m, model + 2 * BYTE_MODEL, 256, (now - _clamped(change + green)) & 255)
        if used & (16 << high):
            change = _half(change + now - green)
            left = (np.int64(r[a + 4]) - _clamped(change + blue)) & 255
            encode_symbol(s, out, m, model + 4 * BYTE_MODEL, 256, left)


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def decode_nir(s, data, m, o, r, at, before):
    """Near infrared at r[at]; specification, RGBNIR14: two bits tell which bytes differ."""
    used = decode_symbol(s, data, m, o, 4)
    for high in range(2):
        r[at + high] = r[before + high]
        if used & (1 << high):
            r[at + high] = _decode_byte(
                s, data, m, o + _NIR_USED + high * BYTE_MODEL, np.int64(r[before + high])
            )


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def encode_nir(s, out, m, o, r, at, before):
    """The other way of `decode_nir`."""
    used = (1 if r[at] != r[before] else 0) | (2 if r[at + 1] != r[before + 1] else 0)
    encode_symbol(s, out, m, o, 4, used)
    for high in range(2):
        if used & (1 << high):
            change = (np.int64(r[at + high]) - np.int64(r[before + high])) & 255
            encode_symbol(s, out, m, o + _NIR_USED + high * BYTE_MODEL, 256, change)


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def decode_byte(s, data, m, o, r, at, before):
    """The byte r[at] as its difference from r[before]: specification, BYTE version 2, BYTE14 version 3."""
    r[at] = _decode_byte(s, data, m, o, np.int64(r[before]))


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def encode_byte(s, out, m, o, r, at, before):
    """The other way of `decode_byte`."""
    encode_symbol(s, out, m, o, 256, (np.int64(r[at]) - np.int64(r[before])) & 255)
