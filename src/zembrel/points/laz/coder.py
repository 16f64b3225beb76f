"""The arithmetic coder of LAZ: adaptive models of symbols and of bits, raw bits, and its start and end.

Specification, entropy coder: a range coder with 32 bits of base and length, a byte at a time; probabilities
have 15 bits for symbols and 13 for bits. Models are adapted after ever longer cycles.

All kernels share two arrays, which they get by pointer. The state, int64, has a number in each slot below.
The arena of models, uint16, holds them one after the other; a model of n symbols begins at `o` and takes
`symbol_model(n)` numbers: until the next update, cycle, total, shift of the table, distribution (n + 1),
counts (n), table of first guesses. A model whose first number is 0 has not been met yet.
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.typed import BYTES, INT, MODELS, STATE, kernel, leading_zeros

VALUE, LENGTH, AT, END, K, SLOTS = 0, 1, 2, 3, 4, 8  # value or base, length, position, end, magnitude class

_SHORTEST = 1 << 24  # entropy coder: the interval is renewed below this length
_LONGEST = 0xFFFFFFFF
_SYMBOL_BITS, _SYMBOL_MOST = 15, 1 << 15  # of a symbol's probability, and of the total count before halving
_BIT_BITS, _BIT_MOST = 13, 1 << 13  # the same for single bits
_UNTIL, _CYCLE, _TOTAL, _SHIFT, _DISTRIBUTION = 0, 1, 2, 3, 4
_PROBABILITY, _ZEROS = 3, 4  # of a bit model, beside the first three
BIT_MODEL = 8
_TABLE = 260


def symbol_model(symbols: int) -> int:
    """Numbers that a model of so many symbols takes."""
    return 5 + 2 * symbols + _TABLE


@kernel(types.void, MODELS, INT, INT)
def _begin(m, o, n):
    """Specification, symbol models: all symbols equally likely."""
    for k in range(n):
        m[o + 5 + n + k] = 1
    m[o + _DISTRIBUTION + n] = 0xFFFF
    m[o + _TOTAL] = 0
    m[o + _CYCLE] = n
    bits = 3
    while n > 1 << (bits - 1) and bits < 8:
        bits += 1
    m[o + _SHIFT] = _SYMBOL_BITS - bits


@kernel(types.void, MODELS, INT, INT, INT)
def _adapt(m, o, n, decoding):
    """Specification, symbol models: counts to probabilities, halved when there are too many."""
    counts, distribution = o + 5 + n, o + _DISTRIBUTION
    total = np.int64(m[o + _TOTAL]) + np.int64(m[o + _CYCLE])
    if total > _SYMBOL_MOST:
        total = 0
        for k in range(n):
            half = (np.int64(m[counts + k]) + 1) >> 1
            m[counts + k] = half
            total += half
    m[o + _TOTAL] = total
    scale = np.int64(0x80000000) // total
    below = np.int64(0)
    for k in range(n):
        m[distribution + k] = (scale * below) >> (31 - _SYMBOL_BITS)
        below += np.int64(m[counts + k])
    if decoding:
        shift = np.int64(m[o + _SHIFT])
        table, symbol = counts + n, np.int64(0)
        for t in range((_SYMBOL_MOST >> shift) + 1):
            while np.int64(m[distribution + symbol + 1]) <= t << shift:
                symbol += 1
            m[table + t] = symbol
    cycle = min((5 * np.int64(m[o + _CYCLE])) >> 2, (n + 6) << 3)
    m[o + _CYCLE] = cycle
    m[o + _UNTIL] = cycle


@kernel(types.void, MODELS, INT, INT, INT)
def _first(m, o, n, decoding):
    _begin(m, o, n)
    _adapt(m, o, n, decoding)
    m[o + _CYCLE] = (n + 6) >> 1
    m[o + _UNTIL] = (n + 6) >> 1


@kernel(INT, BYTES, INT, inlined=True)
def _four_bytes(data, at):
    high = np.int64(data[at]) << 24 | np.int64(data[at + 1]) << 16
    return high | np.int64(data[at + 2]) << 8 | np.int64(data[at + 3])


@kernel(types.void, STATE, BYTES, INT, INT, inlined=True)
def _refill(s, data, value, length):
    """Specification, decoder: bytes come in until the interval is long enough."""
    shift = (leading_zeros(length) - 32) & 24
    at = s[AT]
    s[AT] = at + (shift >> 3)
    s[VALUE] = value << shift | _four_bytes(data, at) >> (32 - shift)
    s[LENGTH] = length << shift


@kernel(types.void, STATE, BYTES, INT)
def begin_decoding(s, data, at):
    """Specification, decoder: the value is the first four bytes."""
    s[AT] = at + 4
    s[VALUE] = min(_four_bytes(data, at), _LONGEST - 1)  # no encoder makes the largest one
    s[LENGTH] = _LONGEST


@kernel(INT, STATE, BYTES, MODELS, INT, INT, inlined=True)
def decode_symbol(s, data, m, o, n):
    """The next of `n` symbols by the model at `o`."""
    if m[o] == 0:
        _first(m, o, n, 1)
    value, length = s[VALUE], s[LENGTH]
    unit = length >> _SYMBOL_BITS
    share = np.int64(np.uint32(value) // np.uint32(unit))
    distribution = o + _DISTRIBUTION
    symbol = np.int64(m[o + 5 + 2 * n + (share >> np.int64(m[o + _SHIFT]))])
    while np.int64(m[distribution + symbol + 1]) <= share:
        symbol += 1
    low = np.int64(m[distribution + symbol]) * unit
    if symbol < n - 1:
        length = np.int64(m[distribution + symbol + 1]) * unit
    value -= low
    length -= low
    _refill(s, data, value, length)
    m[o + 5 + n + symbol] += 1
    m[o] -= 1
    if m[o] == 0:
        _adapt(m, o, n, 1)
    return symbol


@kernel(types.void, MODELS, INT)
def _first_bit(m, o):
    m[o + _UNTIL] = 4
    m[o + _CYCLE] = 4
    m[o + _TOTAL] = 2
    m[o + _PROBABILITY] = 1 << (_BIT_BITS - 1)
    m[o + _ZEROS] = 1


@kernel(types.void, MODELS, INT)
def _adapt_bit(m, o):
    """Specification, bit models: as for symbols, with a count of zeros and one of all."""
    total = np.int64(m[o + _TOTAL]) + np.int64(m[o + _CYCLE])
    zeros = np.int64(m[o + _ZEROS])
    if total > _BIT_MOST:
        total = (total + 1) >> 1
        zeros = (zeros + 1) >> 1
        if zeros == total:
            total += 1
    m[o + _TOTAL] = total
    m[o + _ZEROS] = zeros
    m[o + _PROBABILITY] = (zeros * (np.int64(0x80000000) // total)) >> (31 - _BIT_BITS)
    cycle = min((5 * np.int64(m[o + _CYCLE])) >> 2, 64)
    m[o + _CYCLE] = cycle
    m[o + _UNTIL] = cycle


@kernel(INT, STATE, BYTES, MODELS, INT, inlined=True)
def decode_bit(s, data, m, o):
    """The next bit by the model at `o`."""
    if m[o] == 0:
        _first_bit(m, o)
    value, length = s[VALUE], s[LENGTH]
    zero = np.int64(m[o + _PROBABILITY]) * (length >> _BIT_BITS)
    if value < zero:
        bit, length = np.int64(0), zero
        m[o + _ZEROS] += 1
    else:
        bit, value, length = np.int64(1), value - zero, length - zero
    _refill(s, data, value, length)
    m[o] -= 1
    if m[o] == 0:
        _adapt_bit(m, o)
    return bit


@kernel(INT, STATE, BYTES, INT, inlined=True)
def decode_few(s, data, bits):
    """The next `bits` raw bits, 1 to 19."""
    length = s[LENGTH] >> bits
    value = s[VALUE]
    read = np.int64(np.uint32(value) // np.uint32(length))
    _refill(s, data, value - read * length, length)
    return read


@kernel(INT, STATE, BYTES, INT)
def decode_raw(s, data, bits):
    """The next `bits` raw bits, 1 to 32; specification: more than 19 come as 16 and the rest."""
    if bits <= 19:
        return decode_few(s, data, bits)
    low = decode_few(s, data, 16)
    return decode_few(s, data, bits - 16) << 16 | low


@kernel(types.void, STATE, INT)
def begin_encoding(s, at):
    """Specification, encoder: base 0 and the longest interval; bytes go to `at` and on."""
    s[VALUE] = 0
    s[LENGTH] = _LONGEST
    s[AT] = at


@kernel(types.void, STATE, BYTES, INT, INT, inlined=True)
def _emit(s, out, base, length):
    """Specification, encoder: a carry runs back through bytes of 255; full bytes go out."""
    at = s[AT]
    if base > _LONGEST:
        base &= _LONGEST
        before = at - 1
        while out[before] == 255:
            out[before] = 0
            before -= 1
        out[before] += 1
    out[at] = base >> 24
    out[at + 1] = (base >> 16) & 255
    out[at + 2] = (base >> 8) & 255
    out[at + 3] = base & 255
    shift = (leading_zeros(length) - 32) & 24
    s[AT] = at + (shift >> 3)
    s[VALUE] = (base << shift) & _LONGEST
    s[LENGTH] = length << shift


@kernel(types.void, STATE, BYTES, MODELS, INT, INT, INT, inlined=True)
def encode_symbol(s, out, m, o, n, symbol):
    """One of `n` symbols by the model at `o`."""
    if m[o] == 0:
        _first(m, o, n, 0)
    unit = s[LENGTH] >> _SYMBOL_BITS
    low = np.int64(m[o + _DISTRIBUTION + symbol]) * unit
    length = s[LENGTH] - low
    if symbol < n - 1:
        length = np.int64(m[o + _DISTRIBUTION + symbol + 1]) * unit - low
    _emit(s, out, s[VALUE] + low, length)
    m[o + 5 + n + symbol] += 1
    m[o] -= 1
    if m[o] == 0:
        _adapt(m, o, n, 0)


@kernel(types.void, STATE, BYTES, MODELS, INT, INT, inlined=True)
def encode_bit(s, out, m, o, bit):
    """One bit by the model at `o`."""
    if m[o] == 0:
        _first_bit(m, o)
    zero = np.int64(m[o + _PROBABILITY]) * (s[LENGTH] >> _BIT_BITS)
    if bit == 0:
        _emit(s, out, s[VALUE], zero)
        m[o + _ZEROS] += 1
    else:
        _emit(s, out, s[VALUE] + zero, s[LENGTH] - zero)
    m[o] -= 1
    if m[o] == 0:
        _adapt_bit(m, o)


@kernel(types.void, STATE, BYTES, INT, INT, inlined=True)
def encode_few(s, out, bits, number):
    """`number` as 1 to 19 raw bits."""
    length = s[LENGTH] >> bits
    _emit(s, out, s[VALUE] + number * length, length)


@kernel(types.void, STATE, BYTES, INT, INT)
def encode_raw(s, out, bits, number):
    """`number` as 1 to 32 raw bits."""
    if bits > 19:
        encode_few(s, out, 16, number & 0xFFFF)
        number >>= 16
        bits -= 16
    encode_few(s, out, bits, number)


@kernel(INT, STATE, BYTES)
def end_encoding(s, out):
    """Specification, encoder: as many bytes as tell the interval, then zeros up to four. Returns the end."""
    if s[LENGTH] > 2 * _SHORTEST:
        more = 3
        _emit(s, out, s[VALUE] + _SHORTEST, _SHORTEST >> 1)
    else:
        more = 2
        _emit(s, out, s[VALUE] + (_SHORTEST >> 1), _SHORTEST >> 9)
    at = s[AT]
    for k in range(more):
        out[at + k] = 0
    return at + more
