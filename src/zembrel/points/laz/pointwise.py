"""Chunks of formats 0 to 5: all items of a point after each other, by one coder.

Specification, pointwise compression: the first point of a chunk is raw, models begin anew with each chunk.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numba import types

from zembrel.points.laz.bytesin import int64_at, put_int64
from zembrel.points.laz.coder import AT, SLOTS, begin_decoding, begin_encoding, end_encoding
from zembrel.points.laz.colour import (
    BYTE_MODEL,
    MODELS_OF_RGB,
    decode_byte,
    decode_rgb,
    encode_byte,
    encode_rgb,
)
from zembrel.points.laz.gpstime import (
    HISTORY_OF_TIME,
    MODELS_OF_TIME,
    begin_times,
    decode_time,
    encode_time,
)
from zembrel.points.laz.point10 import HISTORY_OF_POINT10, MODELS_OF_POINT10, decode_point10, encode_point10
from zembrel.points.laz.typed import BYTES, INT, MODELS, READONLY, STATE, entry, kernel
from zembrel.points.laz.waveform import HISTORY_OF_WAVE, MODELS_OF_WAVE, decode_wave, encode_wave

Bytes = npt.NDArray[np.uint8]
_TIME, _RGB = MODELS_OF_POINT10, MODELS_OF_POINT10 + MODELS_OF_TIME
_WAVE = _RGB + MODELS_OF_RGB
_EXTRA = _WAVE + MODELS_OF_WAVE
_TIMES, _WAVES = HISTORY_OF_POINT10, HISTORY_OF_POINT10 + HISTORY_OF_TIME
_HISTORY = _WAVES + HISTORY_OF_WAVE


class Items(NamedTuple):
    """Where the items of a record begin, 0 for one that is not there; extra bytes are its last ones."""

    length: int
    time: int = 0
    rgb: int = 0
    wave: int = 0
    extra: int = 0


@kernel(INT, BYTES, INT, INT, BYTES, INT, STATE, STATE, MODELS, *[INT] * 5)
def _decode(data, at, end, r, count, s, h, m, length, time, rgb, wave, extra):
    """Points decoded before the data ended; the first one lies in `r` already."""
    begin_decoding(s, data, at)
    for k in range(1, count):
        now, before = k * length, (k - 1) * length
        decode_point10(s, data, m, 0, h, 0, r, now, before)
        if time:
            put_int64(r, now + time, decode_time(s, data, m, _TIME, h, _TIMES, 1))
        if rgb:
            decode_rgb(s, data, m, _RGB, r, now + rgb, before + rgb)
        if wave:
            decode_wave(s, data, m, _WAVE, h, _WAVES, r, now + wave, before + wave)
        for e in range(length - extra, length):
            model = _EXTRA + (e - length + extra) * BYTE_MODEL
            decode_byte(s, data, m, model, r, now + e, before + e)
        if s[AT] > end:
            return k
    return count


@kernel(INT, BYTES, INT, BYTES, STATE, STATE, MODELS, *[INT] * 5)
def _encode(r, count, out, s, h, m, length, time, rgb, wave, extra):
    """Bytes written: the first point as it is, then all others."""
    for k in range(length):
        out[k] = r[k]
    begin_encoding(s, length)
    for k in range(1, count):
        now, before = k * length, (k - 1) * length
        encode_point10(s, out, m, 0, h, 0, r, now, before)
        if time:
            encode_time(s, out, m, _TIME, h, _TIMES, int64_at(r, now + time), 1)
        if rgb:
            encode_rgb(s, out, m, _RGB, r, now + rgb, before + rgb)
        if wave:
            encode_wave(s, out, m, _WAVE, h, _WAVES, r, now + wave, before + wave)
        for e in range(length - extra, length):
            model = _EXTRA + (e - length + extra) * BYTE_MODEL
            encode_byte(s, out, m, model, r, now + e, before + e)
    return end_encoding(s, out)


@entry(INT, READONLY, INT, INT, types.uint8[::1], INT, types.uint16[::1], types.int64[::1], *[INT] * 5)
def _decode_chunk(data, at, end, r, count, models, ends, length, time, rgb, wave, extra):
    s, h = np.zeros(SLOTS, np.int64), np.zeros(_HISTORY, np.int64)
    if time:
        begin_times(h.ctypes, _TIMES, int64_at(r.ctypes, time))
    points = _decode(
        data.ctypes,
        at,
        end,
        r.ctypes,
        count,
        s.ctypes,
        h.ctypes,
        models.ctypes,
        length,
        time,
        rgb,
        wave,
        extra,
    )
    ends[0] = s[AT]
    return points


@entry(INT, READONLY, INT, types.uint8[::1], types.uint16[::1], *[INT] * 5)
def _encode_chunk(r, count, out, models, length, time, rgb, wave, extra):
    s, h = np.zeros(SLOTS, np.int64), np.zeros(_HISTORY, np.int64)
    if time:
        begin_times(h.ctypes, _TIMES, int64_at(r.ctypes, time))
    return _encode(
        r.ctypes, count, out.ctypes, s.ctypes, h.ctypes, models.ctypes, length, time, rgb, wave, extra
    )


def decode_chunk(data: Bytes, records: Bytes, items: Items) -> tuple[int, int]:
    """Decode a chunk into `records`, (points, bytes of a record).

    Returns the points that `data` held, and the bytes that they take.
    """
    if len(data) < items.length or not len(records):
        return 0, 0
    records[0] = data[: items.length]
    padded = np.concatenate((data, np.zeros(8 * items.length + 256, np.uint8)))  # no look behind the end
    models = np.zeros(_EXTRA + items.extra * BYTE_MODEL, np.uint16)
    ends = np.zeros(1, np.int64)
    r, count = records.reshape(-1), len(records)
    points = _decode_chunk(padded, items.length, len(data), r, count, models, ends, *items)
    return int(points), int(ends[0])


def encode_chunk(records: Bytes, items: Items) -> bytes:
    """A chunk of `records`, (points, bytes of a record), one point at least."""
    models = np.zeros(_EXTRA + items.extra * BYTE_MODEL, np.uint16)
    room = np.empty(len(records) * (3 * items.length + 64) + 64, np.uint8)
    size = _encode_chunk(records.reshape(-1), len(records), room, models, *items)
    return room[:size].tobytes()
