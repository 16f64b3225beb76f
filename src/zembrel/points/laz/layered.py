"""Chunks of formats 6 to 10: a layer for each field, each with a coder of its own.

Specification, layered compression: the first point raw, the number of points, the sizes of all layers, the
layers.
What is not wanted is skipped; a layer of no bytes holds the values of the points it would be predicted from.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numba import types

from zembrel.points.laz.coder import AT, SLOTS, begin_decoding, begin_encoding, end_encoding
from zembrel.points.laz.fields import (
    ANGLES,
    CLASSES,
    FLAGS,
    HEIGHTS,
    HISTORY,
    INTENSITIES,
    MODELS_OF,
    NIR,
    OTHER_BYTES,
    PLACES,
    RGB,
    SOURCES,
    TIMES,
    USERS,
    WAVES,
    begin_field,
    decode_field,
    decode_item,
    encode_field,
    encode_item,
)
from zembrel.points.laz.places import (
    BEGINS,
    HISTORY_OF_PLACES,
    begin_places,
    channel_at,
    channel_of,
    decode_place,
    encode_place,
    end_point,
    item_before,
    items_slot,
    point_before,
)
from zembrel.points.laz.typed import INT, READONLY, entry, onward

Bytes = npt.NDArray[np.uint8]
_U8, _U16, _I32 = types.uint8[::1], types.uint16[::1], types.int32[::1]
_PLAN = types.int64[:, ::1]
# columns of a plan: field, its place in a record, beginning and end in the data, models, and size of a
# channel's
_FIELD, _WHERE, _BEGIN, _END, _MODELS, _SIZE = range(6)
_BESIDE_CHANNEL = 0b11001111  # of the byte of flags
# what a field of a record takes: where it begins and how long it is (POINT14)
_PLACES = {
    HEIGHTS: (8, 4),
    CLASSES: (16, 1),
    FLAGS: (15, 1),
    INTENSITIES: (12, 2),
    ANGLES: (18, 2),
    USERS: (17, 1),
    SOURCES: (20, 2),
    TIMES: (22, 8),
}
_WIDTHS = {RGB: 6, NIR: 2, WAVES: 29, OTHER_BYTES: 1}


class LazLayer(NamedTuple):
    """A layer behind that of places: which field, where it begins in a record, and its bytes there."""

    field: int
    at: int
    width: int


class LayeredItems(NamedTuple):
    """Where the items of a record begin, 0 for one that is not there; extra bytes are its last ones."""

    length: int
    rgb: int = 0
    nir: int = 0
    wave: int = 0
    extra: int = 0
    version: int = 3

    def layers(self) -> Iterator[LazLayer]:
        """All layers behind that of places, in their order."""
        for field, (at, width) in _PLACES.items():
            yield LazLayer(field, at, width)
        for field, at in ((RGB, self.rgb), (NIR, self.nir), (WAVES, self.wave)):
            if at:
                yield LazLayer(field, at, _WIDTHS[field])
        for at in range(self.length - self.extra, self.length):
            yield LazLayer(OTHER_BYTES, at, 1)


@entry(INT, _PLAN, READONLY, _U8, INT, INT, INT, _U16)
def _decode(plan, data, records, count, length, version, models):
    """Points decoded before a layer ended. All layers go on at once: none waits for its own last symbol."""
    rows = len(plan)
    states, histories = np.zeros(rows * SLOTS, np.int64), np.zeros(rows * 4 * HISTORY, np.int64)
    places = np.zeros(HISTORY_OF_PLACES, np.int64)
    s, h, c = states.ctypes, histories.ctypes, places.ctypes
    r, m, d = records.ctypes, models.ctypes, data.ctypes
    begin_places(c, r)
    for row in range(rows):
        begin_decoding(onward(s, row * SLOTS), d, plan[row, _BEGIN])
        begin_field(plan[row, _FIELD], h, (row * 4 + channel_at(r, 0)) * HISTORY, r, 0)
    for k in range(1, count):
        mark = decode_place(s, d, m, 0, c, r, k, length)
        channel, was, slot = channel_of(c), point_before(c) * length, items_slot(c, mark, version)
        for row in range(1, rows):
            field, where = plan[row, _FIELD], plan[row, _WHERE]
            own, p, o = (
                onward(s, row * SLOTS),
                (row * 4 + channel) * HISTORY,
                plan[row, _MODELS] + channel * plan[row, _SIZE],
            )
            if mark & BEGINS:
                begin_field(field, h, p, r, was)
            if field <= TIMES:
                decode_field(field, own, d, m, o, h, p, r, k * length, was, mark)
            else:
                decode_item(
                    field, own, d, m, o, h, p, r, k * length + where, item_before(c, slot) * length + where
                )
            if states[row * SLOTS + AT] > plan[row, _END]:
                return k
        if states[AT] > plan[0, _END]:
            return k
        end_point(c, k, slot)
    return count


@entry(types.void, _PLAN, READONLY, INT, INT, INT, _U8, _U16)
def _encode(plan, records, count, length, version, room, models):
    """Layers written to `room` from their beginnings on; their ends go into the plan."""
    rows = len(plan)
    states, histories = np.zeros(rows * SLOTS, np.int64), np.zeros(rows * 4 * HISTORY, np.int64)
    places = np.zeros(HISTORY_OF_PLACES, np.int64)
    s, h, c = states.ctypes, histories.ctypes, places.ctypes
    r, m, out = records.ctypes, models.ctypes, room.ctypes
    begin_places(c, r)
    for row in range(rows):
        begin_encoding(onward(s, row * SLOTS), plan[row, _BEGIN])
        begin_field(plan[row, _FIELD], h, (row * 4 + channel_at(r, 0)) * HISTORY, r, 0)
    for k in range(1, count):
        mark = encode_place(s, out, m, 0, c, r, k, length)
        channel, was, slot = channel_of(c), point_before(c) * length, items_slot(c, mark, version)
        for row in range(1, rows):
            field, where = plan[row, _FIELD], plan[row, _WHERE]
            own, p, o = (
                onward(s, row * SLOTS),
                (row * 4 + channel) * HISTORY,
                plan[row, _MODELS] + channel * plan[row, _SIZE],
            )
            if mark & BEGINS:
                begin_field(field, h, p, r, was)
            if field <= TIMES:
                encode_field(field, own, out, m, o, h, p, r, k * length, was, mark)
            else:
                encode_item(
                    field, own, out, m, o, h, p, r, k * length + where, item_before(c, slot) * length + where
                )
        end_point(c, k, slot)
    for row in range(rows):
        plan[row, _END] = end_encoding(onward(s, row * SLOTS), out)


@entry(types.void, READONLY, INT, INT, _U8)
def _differing(records, count, length, marks):
    """Bits of a record that differ from those of the first one anywhere."""
    for k in range(1, count):
        for at in range(length):
            marks[at] |= records[k * length + at] ^ records[at]


def chunk_size(data: Bytes, items: LayeredItems) -> tuple[int, int]:
    """Bytes and points that a chunk says it has; zeros if it is too short to say."""
    layers = 1 + sum(1 for _ in items.layers())
    head = data[items.length : items.length + 4 + 4 * layers].tobytes()
    if len(head) < 4 + 4 * layers:
        return 0, 0
    count, *sizes = np.frombuffer(head, "<u4").tolist()
    return items.length + len(head) + sum(sizes), count


def decode_layers(
    data: Bytes,
    records: Bytes,
    items: LayeredItems,
    wanted: Collection[int] | None,
    *,
    partial: bool = False,
) -> int:
    """Decode a chunk into `records`, (points, bytes of a record), zeros before.

    wanted: first bytes of the fields to decode besides returns, x and y, or None for all; partial: leave out
    layers that are cut off, if those of places and heights are whole. Returns the points that `data` held.
    """
    layers = [LazLayer(PLACES, 0, 8), *items.layers()]
    begin = items.length + 4 + 4 * len(layers)
    if len(data) < begin:
        return 0
    records[0] = data[: items.length]
    ends = begin + np.cumsum(np.frombuffer(data[items.length + 4 : begin].tobytes(), "<u4").astype(np.int64))
    wanted_ones = [n for n, layer in enumerate(layers) if n == 0 or wanted is None or layer.at in wanted]
    coded = [n for n in wanted_ones if n == 0 or ends[n] > ends[n - 1]]
    if partial:
        coded = [n for n in coded if ends[n] <= len(data)]
        if ends[HEIGHTS] > len(data):
            return 0
    plan, models = _plan([layers[n] for n in coded])
    plan[:, _BEGIN] = np.minimum(np.concatenate(([begin], ends[:-1]))[coded], len(data))
    plan[:, _END] = np.minimum(ends[coded], len(data))
    padded = np.concatenate((data, np.zeros(8 * items.length + 256, np.uint8)))  # no look behind the end
    there = _decode(plan, padded, records.reshape(-1), len(records), items.length, items.version, models)
    for n in wanted_ones:
        if n and ends[n] == ends[n - 1]:
            _repeat(records, layers[n])
    return int(there)


def _plan(layers: Sequence[LazLayer]) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint16]]:
    """A row of each layer for the kernels, and the arena of their models."""
    plan = np.zeros((len(layers), 6), np.int64)
    plan[:, _FIELD], plan[:, _WHERE] = [layer.field for layer in layers], [layer.at for layer in layers]
    plan[:, _SIZE] = [MODELS_OF[layer.field] for layer in layers]
    ends = np.cumsum(4 * plan[:, _SIZE])
    plan[:, _MODELS] = ends - 4 * plan[:, _SIZE]
    return plan, np.zeros(ends[-1], np.uint16)


def _repeat(records: Bytes, layer: LazLayer) -> None:
    """The field of a layer of no bytes: that of the first point, from which all others follow."""
    if layer.field == FLAGS:
        records[1:, layer.at] |= records[0, layer.at] & _BESIDE_CHANNEL
    else:
        records[1:, layer.at : layer.at + layer.width] = records[0, layer.at : layer.at + layer.width]


def encode_layers(records: Bytes, items: LayeredItems) -> bytes:
    """A chunk of `records`, (points, bytes of a record), one point at least."""
    count, length = records.shape
    r, marks = np.ascontiguousarray(records).reshape(-1), np.zeros(length, np.uint8)
    _differing(r, count, length, marks)
    marks[15] &= _BESIDE_CHANNEL
    layers = [LazLayer(PLACES, 0, 8), *items.layers()]
    kept = [n for n, layer in enumerate(layers) if n < 2 or marks[layer.at : layer.at + layer.width].any()]
    plan, models = _plan([layers[n] for n in kept])
    widest = np.array([count * (3 * layers[n].width + 12) + 64 for n in kept])
    plan[:, _BEGIN] = np.cumsum(widest) - widest
    room = np.empty(int(widest.sum()), np.uint8)
    _encode(plan, r, count, length, items.version, room, models)
    parts = [b""] * len(layers)
    for n, row in zip(kept, plan, strict=True):
        parts[n] = room[row[_BEGIN] : row[_END]].tobytes()
    head = np.array([count, *map(len, parts)], "<u4").tobytes()
    return b"".join((records[0].tobytes(), head, *parts))
