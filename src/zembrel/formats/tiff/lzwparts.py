"""LZW data cut at their Clear codes, so that a long strip is decoded some bytes at a time.

Source: TIFF Revision 6.0, section 13. After a Clear code (256) codes have 9 bits; they get longer as the
table fills up, whatever they say. So the places of all codes up to the next Clear code are known ahead.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import imagecodecs
import numpy as np
import numpy.typing as npt

_CLEAR, _END = 256, 257
# codes of 9, 10 and 11 bits after a Clear code: the table grows by one with each code but the first
_WIDTHS = np.repeat([9, 10, 11, 12], [254, 512, 1024, 100_000]).astype(np.int64)
_STARTS = np.concatenate([[0], np.cumsum(_WIDTHS)[:-1]])
_LOOK = 4_200  # codes between two Clear codes, of writers that clear a table once it is full
_CUT, _ROOM = 1 << 20, 200_000  # bytes that are decoded at a time, and more than the codes of `_STARTS` take
_FIRST = np.array([1, 0, 0, 0, 0, 0, 0, 0, 0], np.uint8)  # bits of a Clear code
Bytes = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int64]


def parts(read: Callable[[int, int], bytes], count: int) -> Iterator[bytes]:
    """The bytes that `count` bytes of LZW stand for, in pieces. read: gives bytes, by place and number.

    Raises ValueError for data that go on too long without a Clear code, and what the codec package raises.
    """
    window, at = (
        np.frombuffer(read(0, min(2, count)), np.uint8),
        0,
    )  # bytes at hand, and the place of the first
    if count < 2 or _codes(window, np.array([0]), np.array([9]))[0] != _CLEAR:
        yield bytes(imagecodecs.lzw_decode(read(0, count)))  # of the time before the standard
        return
    begin = bit = 9  # behind the Clear code from which nothing is decoded yet, and behind the latest one
    while True:
        if bit // 8 + _ROOM > at + window.size and at + window.size < count:
            at = begin // 8
            window = np.frombuffer(read(at, min(_CUT + 2 * _ROOM, count - at)), np.uint8)
        found, width, last = _next_clear(window, bit - 8 * at)
        if last or found + 8 * at - begin >= 8 * _CUT:
            yield bytes(imagecodecs.lzw_decode(_between_clears(window, begin - 8 * at, found, width)))
            begin = found + width + 8 * at
        bit = found + width + 8 * at
        if last:
            return


def _next_clear(data: Bytes, bit: int) -> tuple[int, int, bool]:
    """Where the next Clear code or the end is after `bit`, its bits, and whether it is the end."""
    starts = bit + _STARTS
    whole = int(np.searchsorted(starts + _WIDTHS, 8 * data.size, "right"))
    for begin, end in ((0, _LOOK), (_LOOK, len(starts))):
        here = slice(begin, min(end, whole))
        codes = _codes(data, starts[here], _WIDTHS[here])
        found = np.flatnonzero((codes == _CLEAR) | (codes == _END))
        if found.size:
            first = begin + int(found[0])
            return int(starts[first]), int(_WIDTHS[first]), bool(codes[found[0]] == _END)
        if whole < end:  # data may end without saying so
            return 8 * data.size, 0, True
    raise ValueError("there is no Clear code for a long way")


def _codes(
    data: Bytes, starts: npt.NDArray[np.int64], widths: npt.NDArray[np.int64]
) -> npt.NDArray[np.int64]:
    """The codes that begin at these bits and are so wide, the highest bit first."""
    if not starts.size:
        return starts
    first = int(starts[0]) // 8
    whole = np.concatenate([data[first : int(starts[-1]) // 8 + 3], np.zeros(2, np.uint8)])
    at = starts // 8 - first
    three = (whole[at].astype(np.int64) << 16) | (whole[at + 1].astype(np.int64) << 8) | whole[at + 2]
    codes: Numbers = (three >> (24 - starts % 8 - widths)) & ((1 << widths) - 1)
    return codes


def _between_clears(data: Bytes, begin: int, end: int, width: int) -> bytes:
    """Data from one bit up to another, between a Clear code and an end code of `width` bits."""
    bits = np.unpackbits(data[begin // 8 : -(-end // 8)])[begin % 8 : begin % 8 + end - begin]
    last = np.array([_END >> n & 1 for n in range(width - 1, -1, -1)], np.uint8)
    return np.packbits(np.concatenate([_FIRST, bits, last])).tobytes()
