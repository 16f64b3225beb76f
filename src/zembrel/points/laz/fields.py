"""The fields of formats 6 to 10 that have layers of their own: specification, POINT14 version 3 and its
companions.

Each is decoded and encoded here for one point: at r[now], predicted from the record at r[was].
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.bytesin import int32_at, int64_at, put_int32, put_int64, put_uint16, uint16_at
from zembrel.points.laz.coder import decode_symbol, encode_symbol, symbol_model
from zembrel.points.laz.colour import (
    BYTE_MODEL,
    MODELS_OF_NIR,
    MODELS_OF_RGB,
    decode_byte,
    decode_nir,
    decode_rgb,
    encode_byte,
    encode_nir,
    encode_rgb,
)
from zembrel.points.laz.gpstime import (
    HISTORY_OF_TIME,
    MODELS_OF_TIME,
    begin_times,
    decode_time,
    encode_time,
)
from zembrel.points.laz.integers import (
    decode_int32,
    decode_uint16,
    encode_int32,
    encode_uint16,
    integer_models,
)
from zembrel.points.laz.places import ANGLE, MODELS_OF_PLACE, SOURCE, TIME, place_in_pulse
from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel
from zembrel.points.laz.waveform import MODELS_OF_WAVE, decode_wave, encode_wave

# the layers, in the specification's order; then those of the other items
PLACES, HEIGHTS, CLASSES, FLAGS, INTENSITIES, ANGLES, USERS, SOURCES, TIMES = range(9)
RGB, NIR, WAVES, OTHER_BYTES = range(9, 13)
_FLAG = symbol_model(64)
MODELS_OF = (
    MODELS_OF_PLACE,
    integer_models(20),
    64 * BYTE_MODEL,
    64 * _FLAG,
    integer_models(4),
    integer_models(2),
    64 * BYTE_MODEL,
    integer_models(1),
    MODELS_OF_TIME,
    MODELS_OF_RGB,
    MODELS_OF_NIR,
    MODELS_OF_WAVE,
    BYTE_MODEL,
)
HISTORY = HISTORY_OF_TIME  # of a channel: the longest of them


@kernel(types.void, INT, STATE, INT, BYTES, INT)
def begin_field(layer, h, p, r, was):
    """Specification, POINT14: a channel begins with the values of a point."""
    for k in range(HISTORY):
        h[p + k] = 0
    if layer == HEIGHTS:
        for k in range(8):
            h[p + k] = int32_at(r, was + 8)
    elif layer == INTENSITIES:
        for k in range(8):
            h[p + k] = uint16_at(r, was + 12)
    elif layer == TIMES:
        begin_times(h, p, int64_at(r, was + 22))


@kernel(INT, BYTES, INT)
def level_of_height(r, at):
    """Specification, POINT14: heights are kept by how far a return is from the last one, seven at most."""
    return min(abs((np.int64(r[at + 14]) >> 4) - (np.int64(r[at + 14]) & 15)), 7)


@kernel(INT, BYTES, INT, INT)
def _class_model(r, now, was):
    """Specification, POINT14: by five bits of the last class, and whether the point is a single return."""
    return ((np.int64(r[was + 16]) & 31) * 2 + (1 if place_in_pulse(r, now) == 3 else 0)) * BYTE_MODEL


@kernel(INT, BYTES, INT)
def _flags(r, at):
    """Specification, POINT14: four flags, direction of the scan and edge of the line, without the channel."""
    return np.int64(r[at + 15]) & 15 | (np.int64(r[at + 15]) >> 2 & 48)


@kernel(INT, BYTES, INT, INT)
def _intensity_slot(r, now, mark):
    """Specification, POINT14: intensities are kept by the place in the pulse and whether the time changed."""
    return place_in_pulse(r, now) * 2 + (1 if mark & TIME else 0)


@kernel(types.void, INT, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT, INT)
def decode_field(layer, s, data, m, o, h, p, r, now, was, mark):
    """One field of POINT14; mark: what changes, and in bits 8 and up the context of the height."""
    if layer == HEIGHTS:
        slot = p + level_of_height(r, now)
        h[slot] = decode_int32(s, data, m, o, mark >> 8, h[slot])
        put_int32(r, now + 8, h[slot])
    elif layer == CLASSES:
        r[now + 16] = decode_symbol(s, data, m, o + _class_model(r, now, was), 256)
    elif layer == FLAGS:
        flags = decode_symbol(s, data, m, o + _flags(r, was) * _FLAG, 64)
        r[now + 15] = flags & 15 | np.int64(r[now + 15]) & 48 | (flags & 48) << 2
    elif layer == INTENSITIES:
        slot = p + _intensity_slot(r, now, mark)
        h[slot] = decode_uint16(s, data, m, o, place_in_pulse(r, now), h[slot])
        put_uint16(r, now + 12, h[slot])
    elif layer == ANGLES:
        angle = uint16_at(r, was + 18)
        if mark & ANGLE:
            angle = decode_uint16(s, data, m, o, 1 if mark & TIME else 0, angle)
        put_uint16(r, now + 18, angle)
    elif layer == USERS:  # specification: by a quarter of the last value
        r[now + 17] = decode_symbol(s, data, m, o + (np.int64(r[was + 17]) >> 2) * BYTE_MODEL, 256)
    elif layer == SOURCES:
        source = uint16_at(r, was + 20)
        if mark & SOURCE:
            source = decode_uint16(s, data, m, o, 0, source)
        put_uint16(r, now + 20, source)
    elif layer == TIMES:
        time = int64_at(r, was + 22)
        if mark & TIME:
            time = decode_time(s, data, m, o, h, p, 0)
        put_int64(r, now + 22, time)


@kernel(types.void, INT, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT, INT)
def encode_field(layer, s, out, m, o, h, p, r, now, was, mark):
    """The other way of `decode_field`."""
    if layer == HEIGHTS:
        slot = p + level_of_height(r, now)
        z = int32_at(r, now + 8)
        encode_int32(s, out, m, o, mark >> 8, h[slot], z)
        h[slot] = z
    elif layer == CLASSES:
        encode_symbol(s, out, m, o + _class_model(r, now, was), 256, np.int64(r[now + 16]))
    elif layer == FLAGS:
        encode_symbol(s, out, m, o + _flags(r, was) * _FLAG, 64, _flags(r, now))
    elif layer == INTENSITIES:
        slot = p + _intensity_slot(r, now, mark)
        intensity = uint16_at(r, now + 12)
        encode_uint16(s, out, m, o, place_in_pulse(r, now), h[slot], intensity)
        h[slot] = intensity
    elif layer == ANGLES:
        if mark & ANGLE:
            new = 1 if mark & TIME else 0
            encode_uint16(s, out, m, o, new, uint16_at(r, was + 18), uint16_at(r, now + 18))
    elif layer == USERS:
        model = o + (np.int64(r[was + 17]) >> 2) * BYTE_MODEL
        encode_symbol(s, out, m, model, 256, np.int64(r[now + 17]))
    elif layer == SOURCES:
        if mark & SOURCE:
            encode_uint16(s, out, m, o, 0, uint16_at(r, was + 20), uint16_at(r, now + 20))
    elif layer == TIMES and mark & TIME:
        encode_time(s, out, m, o, h, p, int64_at(r, now + 22), 0)


@kernel(types.void, INT, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def decode_item(layer, s, data, m, o, h, p, r, now, was):
    """Another item of the record, which begins at r[now]."""
    if layer == RGB:
        decode_rgb(s, data, m, o, r, now, was)
    elif layer == NIR:
        decode_nir(s, data, m, o, r, now, was)
    elif layer == WAVES:
        decode_wave(s, data, m, o, h, p, r, now, was)
    else:
        decode_byte(s, data, m, o, r, now, was)


@kernel(types.void, INT, STATE, BYTES, MODELS, INT, STATE, INT, BYTES, INT, INT)
def encode_item(layer, s, out, m, o, h, p, r, now, was):
    """The other way of `decode_item`."""
    if layer == RGB:
        encode_rgb(s, out, m, o, r, now, was)
    elif layer == NIR:
        encode_nir(s, out, m, o, r, now, was)
    elif layer == WAVES:
        encode_wave(s, out, m, o, h, p, r, now, was)
    else:
        encode_byte(s, out, m, o, r, now, was)
