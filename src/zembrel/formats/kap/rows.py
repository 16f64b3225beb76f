"""Rows of a chart: numbers of seven bits a byte, and runs of colours."""

from __future__ import annotations

from zembrel.compiling import kernel


@kernel
def packed(codes, first, bits, out, ends):  # type: ignore[no-untyped-def]
    """Rows of codes (rows, columns), 1 to 2^bits - 1, as bytes in `out`; ends (rows,): where each ends.

    first: number of the first row. A run is a byte with the colour and the highest bits of its length less
    one, and bytes with seven more each.
    """
    at, spare = 0, 7 - bits
    for r in range(codes.shape[0]):
        number, digits = first + r, 1
        while number >> 7 * digits:
            digits += 1
        for d in range(digits - 1, -1, -1):
            out[at] = (number >> 7 * d & 127) | (128 if d else 0)
            at += 1
        c, columns = 0, codes.shape[1]
        while c < columns:
            start, code = c, codes[r, c]
            while c < columns and codes[r, c] == code:
                c += 1
            more, follow = c - start - 1, 0
            while more >> (7 * follow + spare):
                follow += 1
            out[at] = (code << spare) | (more >> 7 * follow) | (128 if follow else 0)
            at += 1
            for f in range(follow - 1, -1, -1):
                out[at] = (more >> 7 * f & 127) | (128 if f else 0)
                at += 1
        out[at] = 0
        at += 1
        ends[r] = at


@kernel
def unpacked(data, starts, bits, numbers, codes):  # type: ignore[no-untyped-def]
    """Rows of bytes from `starts` into codes (rows, columns), and their numbers.

    Returns the row that breaks a rule, or -1. A row may end early: the rest keeps its last colour.
    """
    size, spare = data.size, 7 - bits
    for r in range(codes.shape[0]):
        at, number = starts[r], 0
        while at < size and data[at] & 128:
            number = number << 7 | data[at] & 127
            at += 1
        if at >= size:
            return r
        numbers[r] = number << 7 | data[at]
        at += 1
        c, code = 0, 0
        while at < size and data[at] != 0:
            byte = data[at]
            code, more = (byte & 127) >> spare, byte & ((1 << spare) - 1)
            at += 1
            while byte & 128:
                if at >= size:
                    return r
                byte = data[at]
                more = more << 7 | byte & 127
                at += 1
                if more > codes.shape[1]:
                    return r
            if code == 0 or c + more + 1 > codes.shape[1]:
                return r
            for _ in range(more + 1):
                codes[r, c] = code
                c += 1
        if at >= size or c == 0:
            return r
        while c < codes.shape[1]:
            codes[r, c] = code
            c += 1
    return -1
