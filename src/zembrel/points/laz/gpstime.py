"""GPS times: differences as multiples of the last one, in up to four interleaved sequences.

Specification, GPSTIME11 version 2, and POINT14 version 3, which knows no symbol for a time that stays;
contexts 0
to 8 of the differences are the specification's. Times are handled as the 64-bit integers of their bits.
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.coder import decode_raw, decode_symbol, encode_raw, encode_symbol, symbol_model
from zembrel.points.laz.integers import decode_int32, encode_int32, integer_models
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

_MULTI, _MINUS = 500, -10  # GPSTIME11: the largest and the smallest multiple that have a symbol
_MULTI_SYMBOLS, _ZERO_SYMBOLS = 516, 6  # with a symbol for a time that stays; 515 and 5 without
_ZERO = symbol_model(_MULTI_SYMBOLS)
_DIFFERENCES = _ZERO + symbol_model(_ZERO_SYMBOLS)
MODELS_OF_TIME = _DIFFERENCES + integer_models(9)
# history: the sequence in use, the newest one, and of each of the four its time, difference and extremes in
# a row
_LAST, _NEXT, _TIME, _STEP, _EXTREMES = 0, 1, 2, 6, 10
HISTORY_OF_TIME = 14


@kernel(types.void, STATE, INT, INT)
def begin_times(h, o, time):
    for k in range(HISTORY_OF_TIME):
        h[o + k] = 0
    h[o + _TIME] = time


@kernel(INT, INT, INT)
def _wrapped(multiple, step):
    return np.int64(np.int32(multiple * step))


@kernel(types.void, STATE, INT, INT, INT)
def _extreme(h, o, last, difference):
    """Specification: the fourth extreme difference in a row becomes the step."""
    h[o + _EXTREMES + last] += 1
    if h[o + _EXTREMES + last] > 3:
        h[o + _STEP + last] = difference
        h[o + _EXTREMES + last] = 0


@kernel(INT, STATE, BYTES, MODELS, INT, STATE, INT)
def _decode_new(s, data, m, o, h, p):
    """Specification: a new sequence; the upper half by context 8, the lower one raw."""
    high = decode_int32(
        s, data, m, o + _DIFFERENCES, 8, np.int64(np.int32(h[p + _TIME + h[p + _LAST]] >> 32))
    )
    low = decode_raw(s, data, 32)
    last = (h[p + _NEXT] + 1) & 3
    h[p + _NEXT] = last
    h[p + _LAST] = last
    h[p + _TIME + last] = high << 32 | low
    h[p + _STEP + last] = 0
    h[p + _EXTREMES + last] = 0
    return h[p + _TIME + last]


@kernel(INT, STATE, BYTES, MODELS, INT, STATE, INT, INT)
def _decode_multiple(s, data, m, o, h, p, multiple):
    """Specification: the difference whose multiple of the last step is known."""
    last = h[p + _LAST]
    step, ic = h[p + _STEP + last], o + _DIFFERENCES
    if multiple == 1:
        h[p + _EXTREMES + last] = 0
        return decode_int32(s, data, m, ic, 1, step)
    if multiple == 0:
        difference = decode_int32(s, data, m, ic, 7, 0)
    elif multiple < _MULTI:
        return decode_int32(s, data, m, ic, 2 if multiple < 10 else 3, _wrapped(multiple, step))
    elif multiple == _MULTI:
        difference = decode_int32(s, data, m, ic, 4, _wrapped(_MULTI, step))
    elif _MULTI - multiple > _MINUS:
        return decode_int32(s, data, m, ic, 5, _wrapped(_MULTI - multiple, step))
    else:
        difference = decode_int32(s, data, m, ic, 6, _wrapped(_MINUS, step))
    _extreme(h, p, last, difference)
    return difference


@kernel(INT, STATE, BYTES, MODELS, INT, STATE, INT, INT)
def decode_time(s, data, m, o, h, p, stays):
    """The next time; stays: 1 if a time that stays has a symbol (GPSTIME11), else 0 (POINT14)."""
    for _ in range(4):  # no encoder changes the sequence more than once
        last = h[p + _LAST]
        if h[p + _STEP + last] == 0:
            symbol = decode_symbol(s, data, m, o + _ZERO, _ZERO_SYMBOLS - 1 + stays) - stays
            if symbol == -1:
                return h[p + _TIME + last]
            if symbol == 0:
                step = decode_int32(s, data, m, o + _DIFFERENCES, 0, 0)
                h[p + _STEP + last] = step
                h[p + _EXTREMES + last] = 0
                h[p + _TIME + last] += step
                return h[p + _TIME + last]
            if symbol == 1:
                return _decode_new(s, data, m, o, h, p)
            h[p + _LAST] = (last + symbol - 1) & 3
        else:
            symbol = decode_symbol(s, data, m, o, _MULTI_SYMBOLS - 1 + stays)
            if symbol <= _MULTI - _MINUS:
                h[p + _TIME + last] += _decode_multiple(s, data, m, o, h, p, symbol)
                return h[p + _TIME + last]
            symbol -= _MULTI - _MINUS + 1 + stays
            if symbol == -1:
                return h[p + _TIME + last]
            if symbol == 0:
                return _decode_new(s, data, m, o, h, p)
            h[p + _LAST] = (last + symbol) & 3
    return h[p + _TIME + h[p + _LAST]]


@kernel(INT, STATE, INT, INT)
def _other_sequence(h, p, time):
    """How many sequences on there is one from which `time` differs by 32 bits; 0 for none."""
    for k in range(1, 4):
        away = time - h[p + _TIME + ((h[p + _LAST] + k) & 3)]
        if away == np.int64(np.int32(away)):
            return k
    return 0


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, INT)
def _encode_new(s, out, m, o, h, p, time):
    was = np.int64(np.int32(h[p + _TIME + h[p + _LAST]] >> 32))
    encode_int32(s, out, m, o + _DIFFERENCES, 8, was, np.int64(np.int32(time >> 32)))
    encode_raw(s, out, 32, time & 0xFFFFFFFF)
    last = (h[p + _NEXT] + 1) & 3
    h[p + _NEXT] = last
    h[p + _LAST] = last
    h[p + _STEP + last] = 0
    h[p + _EXTREMES + last] = 0
    h[p + _TIME + last] = time


@kernel(INT, INT, INT)
def _multiple(difference, step):
    """The nearest multiple by the specification's symbols: 0 ... 500, and 501 ... 510 for negative ones."""
    ratio = difference / step
    if ratio >= 0:
        return min(np.int64(ratio + 0.5), _MULTI)
    return np.int64(0) if ratio > -0.5 else _MULTI - max(np.int64(ratio - 0.5), _MINUS)


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, INT)
def _encode_difference(s, out, m, o, h, p, difference):
    last = h[p + _LAST]
    step, ic = h[p + _STEP + last], o + _DIFFERENCES
    symbol = _multiple(difference, step)
    if symbol == 1:
        encode_int32(s, out, m, ic, 1, step, difference)
        h[p + _EXTREMES + last] = 0
    elif symbol == 0:
        encode_int32(s, out, m, ic, 7, 0, difference)
        _extreme(h, p, last, difference)
    elif symbol < _MULTI:
        encode_int32(s, out, m, ic, 2 if symbol < 10 else 3, _wrapped(symbol, step), difference)
    elif symbol == _MULTI:
        encode_int32(s, out, m, ic, 4, _wrapped(_MULTI, step), difference)
        _extreme(h, p, last, difference)
    elif _MULTI - symbol > _MINUS:
        encode_int32(s, out, m, ic, 5, _wrapped(_MULTI - symbol, step), difference)
    else:
        encode_int32(s, out, m, ic, 6, _wrapped(_MINUS, step), difference)
        _extreme(h, p, last, difference)


@kernel(types.void, STATE, BYTES, MODELS, INT, STATE, INT, INT, INT)
def encode_time(s, out, m, o, h, p, time, stays):
    """A time; stays: as in `decode_time`."""
    for _ in range(2):
        last = h[p + _LAST]
        step = h[p + _STEP + last]
        zero = step == 0
        model = o + _ZERO if zero else o
        symbols = (_ZERO_SYMBOLS if zero else _MULTI_SYMBOLS) - 1 + stays
        new = 1 + stays if zero else _MULTI - _MINUS + 1 + stays  # the symbol of a new sequence
        difference = time - h[p + _TIME + last]
        if stays and difference == 0:
            encode_symbol(s, out, m, model, symbols, 0 if zero else new - 1)
            return
        if difference == np.int64(np.int32(difference)):
            if zero:
                encode_symbol(s, out, m, model, symbols, stays)
                encode_int32(s, out, m, o + _DIFFERENCES, 0, 0, difference)
                h[p + _STEP + last] = difference
                h[p + _EXTREMES + last] = 0
            else:
                encode_symbol(s, out, m, model, symbols, _multiple(difference, step))
                _encode_difference(s, out, m, o, h, p, difference)
            h[p + _TIME + last] = time
            return
        other = _other_sequence(h, p, time)
        encode_symbol(s, out, m, model, symbols, new + other)
        if other == 0:
            _encode_new(s, out, m, o, h, p, time)
            return
        h[p + _LAST] = (last + other) & 3
