"""Integers as corrections of a prediction: their magnitude class by a model, then the rest of them.

Specification, integer compression: class k holds corrections of -(2^k - 1) ... -2^(k-1) and 2^(k-1) + 1 ...
2^k;
class 0 holds 0 and 1. Up to 8 bits of a correction have a model for each class; the bits below are raw.
Of a coder of `bits` bits the arena holds the corrections' models and one of classes for each context.
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.coder import (
    BIT_MODEL,
    K,
    decode_bit,
    decode_raw,
    decode_symbol,
    encode_bit,
    encode_raw,
    encode_symbol,
    symbol_model,
)
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

_HIGH = 8  # bits of a correction that have models
_STRIDE = symbol_model(1 << _HIGH)
_CLASSES = symbol_model(33)
_CONTEXTS = BIT_MODEL + 32 * _STRIDE


def integer_models(contexts: int) -> int:
    """Numbers of the arena that a coder of integers with so many contexts takes."""
    return _CONTEXTS + contexts * _CLASSES


@kernel(INT, STATE, BYTES, MODELS, INT, INT, INT)
def decode_correction(s, data, m, o, context, bits):
    """The next correction of a coder of `bits` bits; its class is left in the state."""
    k = decode_symbol(s, data, m, o + _CONTEXTS + context * _CLASSES, bits + 1)
    s[K] = k
    if k == 0:
        return decode_bit(s, data, m, o)
    if k == 32:
        return np.int64(-(1 << 31))
    models = o + BIT_MODEL + (k - 1) * _STRIDE
    if k <= _HIGH:
        c = decode_symbol(s, data, m, models, np.int64(1) << k)
    else:
        c = decode_symbol(s, data, m, models, 1 << _HIGH)
        c = c << (k - _HIGH) | decode_raw(s, data, k - _HIGH)
    if c >= np.int64(1) << (k - 1):
        return c + 1
    return c - ((np.int64(1) << k) - 1)


@kernel(types.void, STATE, BYTES, MODELS, INT, INT, INT, INT)
def encode_correction(s, out, m, o, context, bits, c):
    """A correction, already within the range of `bits` signed bits; its class is left in the state."""
    rest = -c if c <= 0 else c - 1
    k = np.int64(0)
    while rest >= 256:
        rest >>= 8
        k += 8
    while rest:
        rest >>= 1
        k += 1
    s[K] = k
    encode_symbol(s, out, m, o + _CONTEXTS + context * _CLASSES, bits + 1, k)
    if k == 0:
        encode_bit(s, out, m, o, c)
    elif k < 32:
        c += (np.int64(1) << k) - 1 if c < 0 else -1
        models = o + BIT_MODEL + (k - 1) * _STRIDE
        if k <= _HIGH:
            encode_symbol(s, out, m, models, np.int64(1) << k, c)
        else:
            encode_symbol(s, out, m, models, 1 << _HIGH, c >> (k - _HIGH))
            encode_raw(s, out, k - _HIGH, c & ((np.int64(1) << (k - _HIGH)) - 1))


@kernel(INT, STATE, BYTES, MODELS, INT, INT, INT)
def decode_int32(s, data, m, o, context, predicted):
    """The next signed integer of 32 bits."""
    return np.int64(np.int32(predicted + decode_correction(s, data, m, o, context, 32)))


@kernel(types.void, STATE, BYTES, MODELS, INT, INT, INT, INT)
def encode_int32(s, out, m, o, context, predicted, number):
    """A signed integer of 32 bits."""
    encode_correction(s, out, m, o, context, 32, np.int64(np.int32(number - predicted)))


@kernel(INT, STATE, BYTES, MODELS, INT, INT, INT)
def decode_uint16(s, data, m, o, context, predicted):
    """The next unsigned integer of 16 bits."""
    return (predicted + decode_correction(s, data, m, o, context, 16)) & 0xFFFF


@kernel(types.void, STATE, BYTES, MODELS, INT, INT, INT, INT)
def encode_uint16(s, out, m, o, context, predicted, number):
    """An unsigned integer of 16 bits."""
    encode_correction(s, out, m, o, context, 16, np.int64(np.int16(number - predicted)))
