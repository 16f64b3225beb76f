"""The first layer of formats 6 to 10: scanner channel, returns, x and y, and which other fields change.

Specification, POINT14 version 3: each of nine layers of a chunk has a coder of its own, so that what is not
wanted need not be decoded. Models are kept apart for each of four scanner channels (contexts); a channel that
comes up for the first time begins with the last point of the channel before it.

The mark of a point holds the specification's seven bits of what changes, bit 7 where a channel begins, and
from bit 8 on the context of its height.
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.bytesin import int32_at, put_int32, uint16_at
from zembrel.points.laz.coder import K, decode_symbol, encode_symbol, symbol_model
from zembrel.points.laz.history import MEDIAN, add_to_median, six_contexts
from zembrel.points.laz.integers import decode_int32, encode_int32, integer_models
from zembrel.points.laz.point10 import class_of_x, class_of_xy
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel

CHANNEL, SOURCE, TIME, ANGLE, RETURNS, BEGINS = 64, 32, 16, 8, 4, 128  # POINT14: bits of what changes
# a record: x, y, z, intensity at 12, returns 14, flags and channel 15, class 16, user 17, angle 18,
# source 20, time 22

# arena of a channel: what changes, by the last point; channel; returns; return number; x; y
_MARKS = symbol_model(128)
_TO_CHANNEL = 8 * _MARKS
_TO_RETURNS = _TO_CHANNEL + symbol_model(3)
_SAME_TIME = _TO_RETURNS + 16 * symbol_model(16)
_NUMBER = _SAME_TIME + symbol_model(13)
_DX = _NUMBER + 16 * symbol_model(16)
_DY = _DX + integer_models(2)
MODELS_OF_PLACE = _DY + integer_models(22)
_SIXTEEN = symbol_model(16)
_MEDIANS = 24 * MEDIAN  # of a channel: x and y by six contexts, and by whether the time changed
# history: medians of four channels; of each its newest point, whether the time changed there, what other
# items are predicted from, and whether it has begun; the channel in use, and the one before it
_NEWEST, _NEW_TIME, _ITEMS = 4 * _MEDIANS, 4 * _MEDIANS + 4, 4 * _MEDIANS + 8
_KNOWN, _CHANNEL, _BEFORE = 4 * _MEDIANS + 12, 4 * _MEDIANS + 16, 4 * _MEDIANS + 17
HISTORY_OF_PLACES = _BEFORE + 1


@kernel(INT, BYTES, INT)
def channel_at(r, at):
    """The scanner channel of the record at r[at]."""
    return np.int64(r[at + 15]) >> 4 & 3


@kernel(types.void, STATE, BYTES)
def begin_places(h, r):
    """Specification, POINT14: a chunk begins in the channel of its first point."""
    h[_CHANNEL] = channel_at(r, 0)
    h[_BEFORE] = h[_CHANNEL]
    h[_KNOWN + h[_CHANNEL]] = 1


@kernel(INT, STATE, INT)
def _enter(h, channel):
    """Change to another channel; the bit that tells whether it begins."""
    before = h[_CHANNEL]
    h[_CHANNEL] = channel
    if h[_KNOWN + channel]:
        return 0
    h[_KNOWN + channel] = 1
    h[_NEWEST + channel] = h[_NEWEST + before]
    h[_ITEMS + channel] = h[_ITEMS + before]
    return BEGINS


@kernel(INT, STATE)
def channel_of(h):
    """The channel in use."""
    return h[_CHANNEL]


@kernel(INT, STATE)
def point_before(h):
    """The point that the fields of POINT14 are predicted from."""
    return h[_NEWEST + h[_CHANNEL]]


@kernel(INT, STATE, INT, INT)
def items_slot(h, mark, version):
    """Of which channel the last item is that other items are predicted from, and replace.

    Specification, version 3: where the channel changes to one that had begun, that of the channel left;
    version 4: always that of the channel itself.
    """
    return h[_BEFORE] if version == 3 and mark & BEGINS == 0 else h[_CHANNEL]


@kernel(INT, STATE, INT)
def item_before(h, slot):
    return h[_ITEMS + slot]


@kernel(types.void, STATE, INT, INT)
def end_point(h, k, slot):
    """Point `k` is done: later ones follow from it."""
    h[_NEWEST + h[_CHANNEL]] = k
    h[_ITEMS + slot] = k
    h[_BEFORE] = h[_CHANNEL]


@kernel(INT, BYTES, INT)
def place_in_pulse(r, at):
    """Specification, POINT14: single 3, first 2, last 1 and intermediate 0."""
    number, returns = np.int64(r[at + 14]) & 15, np.int64(r[at + 14]) >> 4
    return (2 if number == 1 else 0) + (1 if number >= returns else 0)


@kernel(INT, BYTES, INT, INT)
def _last_point(r, at, time_changed):
    """Specification, POINT14: the model of what changes, by the last point: first 1, last 2, new time 4."""
    number, returns = np.int64(r[at + 14]) & 15, np.int64(r[at + 14]) >> 4
    return (1 if number == 1 else 0) + (2 if number >= returns else 0) + (4 if time_changed else 0)


@kernel(INT, STATE, BYTES, MODELS, INT, BYTES, INT, INT)
def _decode_returns(s, data, m, o, r, was, changed):
    """Specification, POINT14: number of returns and return number, as they stand in the record."""
    number, returns = np.int64(r[was + 14]) & 15, np.int64(r[was + 14]) >> 4
    if changed & RETURNS:
        returns = decode_symbol(s, data, m, o + _TO_RETURNS + returns * _SIXTEEN, 16)
    if changed & 3 == 3:
        if changed & TIME:
            number = decode_symbol(s, data, m, o + _NUMBER + number * _SIXTEEN, 16)
        else:
            number += decode_symbol(s, data, m, o + _SAME_TIME, 13) + 2
    elif changed & 3:
        number += 1 if changed & 3 == 1 else 15
    return returns << 4 | (number & 15)


@kernel(INT, STATE, BYTES, MODELS, INT, STATE, BYTES, INT, INT)
def decode_place(s, data, m, a, h, r, k, length):
    """Channel, returns, x and y of point `k`, by models from `a` on. Returns its mark."""
    now, channel = k * length, h[_CHANNEL]
    was = h[_NEWEST + channel] * length
    model = a + channel * MODELS_OF_PLACE + _last_point(r, was, h[_NEW_TIME + channel]) * _MARKS
    mark = decode_symbol(s, data, m, model, 128)
    if mark & CHANNEL:
        step = decode_symbol(s, data, m, a + channel * MODELS_OF_PLACE + _TO_CHANNEL, 3)
        mark |= _enter(h, (channel + step + 1) & 3)
        channel = h[_CHANNEL]
        was = h[_NEWEST + channel] * length
    o = a + channel * MODELS_OF_PLACE
    r[now + 14] = _decode_returns(s, data, m, o, r, was, mark)
    r[now + 15] = channel << 4
    number, returns = np.int64(r[now + 14]) & 15, np.int64(r[now + 14]) >> 4
    single, new = (1 if returns == 1 else 0), (1 if mark & TIME else 0)
    median = channel * _MEDIANS + (six_contexts(returns, number) * 2 + new) * MEDIAN
    step = decode_int32(s, data, m, o + _DX, single, h[median + 2])
    add_to_median(h, median, step)
    put_int32(r, now, int32_at(r, was) + step)
    x_class = s[K]
    median += 12 * MEDIAN
    step = decode_int32(s, data, m, o + _DY, single + class_of_x(s), h[median + 2])
    add_to_median(h, median, step)
    put_int32(r, now + 4, int32_at(r, was + 4) + step)
    h[_NEW_TIME + channel] = new
    return mark | (single + class_of_xy(x_class, s[K])) << 8


@kernel(INT, BYTES, INT, INT)
def _changes(r, now, was):
    """Specification, POINT14: the seven bits of what changes, but for the channel."""
    mark = SOURCE if uint16_at(r, now + 20) != uint16_at(r, was + 20) else 0
    for k in range(22, 30):
        if r[now + k] != r[was + k]:
            mark |= TIME
    mark |= ANGLE if uint16_at(r, now + 18) != uint16_at(r, was + 18) else 0
    mark |= RETURNS if r[now + 14] >> 4 != r[was + 14] >> 4 else 0
    step = (np.int64(r[now + 14]) - np.int64(r[was + 14])) & 15
    if step:
        mark |= 1 if step == 1 else 2 if step == 15 else 3
    return mark


@kernel(types.void, STATE, BYTES, MODELS, INT, BYTES, INT, INT, INT)
def _encode_returns(s, out, m, o, r, now, was, changed):
    """The other way of `_decode_returns`."""
    number, returns = np.int64(r[was + 14]) & 15, np.int64(r[was + 14]) >> 4
    if changed & RETURNS:
        encode_symbol(s, out, m, o + _TO_RETURNS + returns * _SIXTEEN, 16, np.int64(r[now + 14]) >> 4)
    if changed & 3 == 3:
        own = np.int64(r[now + 14]) & 15
        if changed & TIME:
            encode_symbol(s, out, m, o + _NUMBER + number * _SIXTEEN, 16, own)
        else:
            encode_symbol(s, out, m, o + _SAME_TIME, 13, (own - number - 2) & 15)


@kernel(INT, STATE, BYTES, MODELS, INT, STATE, BYTES, INT, INT)
def encode_place(s, out, m, a, h, r, k, length):
    """The other way of `decode_place`."""
    now, before, channel = k * length, h[_CHANNEL], channel_at(r, k * length)
    model = (
        a
        + before * MODELS_OF_PLACE
        + _last_point(r, h[_NEWEST + before] * length, h[_NEW_TIME + before]) * _MARKS
    )
    begins = _enter(h, channel) if channel != before else 0
    was = h[_NEWEST + channel] * length
    mark = _changes(r, now, was) | (CHANNEL if channel != before else 0)
    encode_symbol(s, out, m, model, 128, mark)
    if channel != before:
        encode_symbol(s, out, m, a + before * MODELS_OF_PLACE + _TO_CHANNEL, 3, (channel - before - 1) & 3)
    o = a + channel * MODELS_OF_PLACE
    _encode_returns(s, out, m, o, r, now, was, mark)
    number, returns = np.int64(r[now + 14]) & 15, np.int64(r[now + 14]) >> 4
    single, new = (1 if returns == 1 else 0), (1 if mark & TIME else 0)
    median = channel * _MEDIANS + (six_contexts(returns, number) * 2 + new) * MEDIAN
    step = np.int64(np.int32(int32_at(r, now) - int32_at(r, was)))
    encode_int32(s, out, m, o + _DX, single, h[median + 2], step)
    add_to_median(h, median, step)
    x_class = s[K]
    median += 12 * MEDIAN
    step = np.int64(np.int32(int32_at(r, now + 4) - int32_at(r, was + 4)))
    encode_int32(s, out, m, o + _DY, single + class_of_x(s), h[median + 2], step)
    add_to_median(h, median, step)
    h[_NEW_TIME + channel] = new
    return mark | begins | (single + class_of_xy(x_class, s[K])) << 8
