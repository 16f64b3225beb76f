"""Numbers written as text, by compiled loops: where they begin, how long they are, what they are.

Source of the exact short way from decimal digits to a float: W. D. Clinger, "How to read floating point
numbers accurately", PLDI (1990): up to 2**53 times or through a power of ten up to 22 is exact in doubles.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel

_TENS = np.array([10.0**n for n in range(23)])


@kernel
def scan(text, state, columns, starts, at):  # type: ignore[no-untyped-def]
    """Note in starts where every row of `columns` numbers begins, for a piece of text at byte `at`.

    state: numbers seen, whether the piece before ended inside one, whether all are whole, digits of the
    one at hand, and the most digits of any; carried from piece to piece.
    """
    seen, inside, whole, digits, longest = state[0], state[1], state[2], state[3], state[4]
    for i in range(text.size):
        c = text[i]
        if c <= 32:
            inside = 0
            continue
        if not inside:
            if seen % columns == 0 and seen // columns < starts.size - 1:
                starts[seen // columns] = at + i
            seen += 1
            inside, digits = 1, 0
        if 48 <= c <= 57:
            digits += 1
            longest = max(longest, digits)
        elif c != 43 and c != 45:
            whole = 0
    state[0], state[1], state[2], state[3], state[4] = seen, inside, whole, digits, longest


@kernel
def values(text, out, odd):  # type: ignore[no-untyped-def]
    """Fill out with the numbers in text; returns how many there are, and how many of them are odd.

    Odd are those that the short way does not do exactly, or that are no numbers: their place in out and
    their first and last byte go into odd, (n, 3).
    """
    count, strange, i, size = 0, 0, 0, text.size
    while i < size:
        if text[i] <= 32:
            i += 1
            continue
        first, sign, mantissa, power, digits, good = i, 1.0, np.uint64(0), 0, 0, True
        if text[i] == 45 or text[i] == 43:
            sign = -1.0 if text[i] == 45 else 1.0
            i += 1
        point = False
        while i < size and text[i] > 32:
            c = text[i]
            if 48 <= c <= 57:
                mantissa = mantissa * np.uint64(10) + np.uint64(c - 48)
                digits += 1
                power -= point
            elif c == 46 and not point:
                point = True
            else:
                good = False
            i += 1
        if count < out.size:
            if good and 0 < digits <= 15 and power >= -22:
                out[count] = sign * (float(mantissa) / _TENS[-power])
            else:
                if strange < odd.shape[0]:
                    odd[strange, 0], odd[strange, 1], odd[strange, 2] = count, first, i
                strange += 1
        count += 1
    return count, strange
