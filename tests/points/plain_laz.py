"""A plain decoder of LAZ chunks, written from the specification apart from the program's, one symbol at a time.

It is slow and simple: a class for each thing the specification names, no tables of first guesses, no lazy models,
fields of a point in a dictionary. The program's decoder has to agree with it.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from functools import partial

M32 = 0xFFFFFFFF


def i32(v):
    v &= M32
    return v - (1 << 32) if v >> 31 else v


class SymbolModel:
    def __init__(self, n):
        self.n, self.counts, self.total, self.cycle = n, [1] * n, 0, n
        self.update()
        self.left = self.cycle = (n + 6) >> 1

    def update(self):
        self.total += self.cycle
        if self.total > 32768:
            self.counts = [(c + 1) >> 1 for c in self.counts]
            self.total = sum(self.counts)
        scale, below, self.shares = 0x80000000 // self.total, 0, []
        for c in self.counts:
            self.shares.append((scale * below) >> 16)
            below += c
        self.cycle = min((5 * self.cycle) >> 2, (self.n + 6) << 3)
        self.left = self.cycle


class BitModel:
    def __init__(self):
        self.zeros, self.total, self.cycle, self.left, self.share = 1, 2, 4, 4, 4096

    def update(self):
        self.total += self.cycle
        if self.total > 8192:
            self.total, self.zeros = (self.total + 1) >> 1, (self.zeros + 1) >> 1
            self.total += self.zeros == self.total
        self.share = (self.zeros * (0x80000000 // self.total)) >> 18
        self.cycle = self.left = min((5 * self.cycle) >> 2, 64)


class Decoder:
    def __init__(self, data, at=0):
        self.data, self.at, self.value, self.length = data, at, 0, M32
        for _ in range(4):
            self.value = self.value << 8 | self.byte()

    def byte(self):
        self.at += 1
        return self.data[self.at - 1]

    def renew(self):
        while self.length < 1 << 24:
            self.value, self.length = (self.value << 8 | self.byte()) & M32, self.length << 8

    def symbol(self, m):
        unit = self.length >> 15
        found = max(s for s in range(m.n) if m.shares[s] * unit <= self.value)
        top = self.length if found == m.n - 1 else m.shares[found + 1] * unit
        self.value -= m.shares[found] * unit
        self.length = top - m.shares[found] * unit
        self.renew()
        m.counts[found] += 1
        m.left -= 1
        if not m.left:
            m.update()
        return found

    def bit(self, m):
        border = m.share * (self.length >> 13)
        bit = int(self.value >= border)
        if bit:
            self.value, self.length = self.value - border, self.length - border
        else:
            self.length, m.zeros = border, m.zeros + 1
        self.renew()
        m.left -= 1
        if not m.left:
            m.update()
        return bit

    def bits(self, n):
        if n > 19:
            low = self.bits(16)
            return self.bits(n - 16) << 16 | low
        self.length >>= n
        found = self.value // self.length
        self.value -= found * self.length
        self.renew()
        return found


class Integers:
    """IntegerCompressor: `bits` wide, so many contexts."""

    def __init__(self, decoder, bits, contexts=1):
        self.d, self.bits, self.k = decoder, bits, 0
        self.classes = [SymbolModel(bits + 1) for _ in range(contexts)]
        self.first = BitModel()
        self.models = [SymbolModel(1 << min(k, 8)) for k in range(1, bits + 1)]

    def next(self, predicted, context=0):
        self.k = k = self.d.symbol(self.classes[context])
        if k == 0:
            c = self.d.bit(self.first)
        elif k == 32:
            c = -(1 << 31)
        else:
            c = self.d.symbol(self.models[k - 1])
            if k > 8:
                c = c << (k - 8) | self.d.bits(k - 8)
            c = c + 1 if c >= 1 << (k - 1) else c - (1 << k) + 1
        if self.bits == 32:
            return i32(predicted + c)
        return (predicted + c) % (1 << self.bits)


class Median:
    def __init__(self):
        self.v, self.high = [0] * 5, True

    def add(self, new):
        """The newest value takes a place in the order; the largest or the smallest one leaves, in turn."""
        v, old = self.v, self.v[2]
        if self.high:
            self.v = sorted([*v[:4], new]) if new < old else [*v[:3], *sorted([v[3], new])]
            self.high = new < old
        else:
            self.v = sorted([*v[1:], new]) if new > old else [*sorted([v[1], new]), *v[2:]]
            self.high = not new > old


class Times:
    """GPSTIME11 (stays: 1) and POINT14 (0)."""

    def __init__(self, decoder, stays, first):
        self.d, self.stays = decoder, stays
        self.multi, self.zero = SymbolModel(515 + stays), SymbolModel(5 + stays)
        self.ic = Integers(decoder, 32, 9)
        self.times, self.steps, self.extremes, self.last, self.newest = (
            [first, 0, 0, 0],
            [0] * 4,
            [0] * 4,
            0,
            0,
        )

    def fresh(self):
        high = self.ic.next(i32(self.times[self.last] >> 32), 8)
        self.newest = self.last = (self.newest + 1) & 3
        self.times[self.last] = (high & M32) << 32 | self.d.bits(32)
        self.steps[self.last] = self.extremes[self.last] = 0

    def next(self):
        n, step = self.last, self.steps[self.last]
        if step == 0:
            how = self.d.symbol(self.zero) - self.stays
            if how == 0:
                self.steps[n], self.extremes[n] = self.ic.next(0, 0), 0
                self.add(self.steps[n])
        else:
            multi = self.d.symbol(self.multi)
            how = 0 if multi <= 510 else multi - 510 - self.stays
            if multi <= 510:
                factor = multi if multi <= 500 else 500 - multi
                context = {1: 1, 0: 7, 500: 4, -10: 6}.get(
                    factor, 5 if factor < 0 else 2 if factor < 10 else 3
                )
                found = self.ic.next(i32(factor * step), context)
                if factor == 1:
                    self.extremes[n] = 0
                elif factor in (0, 500, -10):
                    self.extremes[n] += 1
                    if self.extremes[n] > 3:
                        self.steps[n], self.extremes[n] = found, 0
                self.add(found)
        if how == 1:
            self.fresh()
        elif how > 1:
            self.last = (self.last + how - 1) & 3
            return self.next()
        return self.times[self.last]

    def add(self, step):
        self.times[self.last] = (self.times[self.last] + step) & 0xFFFFFFFFFFFFFFFF


class Rgb:
    def __init__(self, decoder):
        self.d, self.used, self.models = decoder, SymbolModel(128), [SymbolModel(256) for _ in range(6)]

    def next(self, last):
        used = self.d.symbol(self.used)
        old = [[c & 255, c >> 8] for c in struct.unpack("<3H", last)]
        new = [list(c) for c in old]
        for h in (0, 1):
            if used >> h & 1:
                new[0][h] = (old[0][h] + self.d.symbol(self.models[h])) & 255
        if not used & 64:
            new[1], new[2] = list(new[0]), list(new[0])
        else:
            for h in (0, 1):
                move = new[0][h] - old[0][h]
                if used >> (2 + h) & 1:
                    new[1][h] = (clamp(move + old[1][h]) + self.d.symbol(self.models[2 + h])) & 255
                if used >> (4 + h) & 1:
                    move = int((move + new[1][h] - old[1][h]) / 2)
                    new[2][h] = (clamp(move + old[2][h]) + self.d.symbol(self.models[4 + h])) & 255
        return bytes(b for c in new for b in c)


def clamp(v):
    return min(max(v, 0), 255)


class Nir:
    def __init__(self, decoder):
        self.d, self.used, self.models = decoder, SymbolModel(4), [SymbolModel(256), SymbolModel(256)]

    def next(self, last):
        used = self.d.symbol(self.used)
        return bytes(
            (last[h] + (self.d.symbol(self.models[h]) if used >> h & 1 else 0)) & 255 for h in (0, 1)
        )


class Wave:
    def __init__(self, decoder):
        self.d, self.index, self.how = decoder, SymbolModel(256), [SymbolModel(4) for _ in range(4)]
        self.offsets, self.sizes, self.returns = (Integers(decoder, 32) for _ in range(3))
        self.xyz, self.step, self.last_how = Integers(decoder, 32, 3), 0, 0

    def next(self, last):
        _, offset, size, point, *xyz = struct.unpack("<BQi4i", last)
        index = self.d.symbol(self.index)
        self.last_how = how = self.d.symbol(self.how[self.last_how])
        if how == 1:
            offset += size
        elif how == 2:
            self.step = self.offsets.next(self.step)
            offset += self.step
        elif how == 3:
            offset = self.d.bits(32)
            offset |= self.d.bits(32) << 32
        size, point = self.sizes.next(size), self.returns.next(point)
        xyz = [self.xyz.next(v, n) for n, v in enumerate(xyz)]
        return struct.pack("<BQi4i", index, offset & 0xFFFFFFFFFFFFFFFF, size, point, *xyz)


class Byte:
    def __init__(self, decoder):
        self.d, self.model = decoder, SymbolModel(256)

    def next(self, last):
        return bytes([(last[0] + self.d.symbol(self.model)) & 255])


MAP = (
    "fedcba98", "e0136aa9", "d1247bba", "c3458ccb", "b6789ddc", "aabcdeed", "9abcdefe", "89abcdef",
)  # fmt: skip


class Point10:
    def __init__(self, decoder):
        self.d = decoder
        self.changed, self.angles = SymbolModel(64), [SymbolModel(256), SymbolModel(256)]
        self.flags, self.classes, self.users = (defaultdict(partial(SymbolModel, 256)) for _ in range(3))
        self.intensity, self.source = Integers(decoder, 16, 4), Integers(decoder, 16)
        self.dx, self.dy, self.z = (
            Integers(decoder, 32, 2),
            Integers(decoder, 32, 22),
            Integers(decoder, 32, 20),
        )
        self.mx, self.my = [Median() for _ in range(16)], [Median() for _ in range(16)]
        self.intensities, self.heights = [0] * 16, [0] * 8

    def next(self, last):
        x, y, _, _, flags, kind, angle, user, source = struct.unpack("<3iH4BH", last)
        changed = self.d.symbol(self.changed)
        if changed & 32:
            flags = self.d.symbol(self.flags[flags])
        r, n = flags & 7, flags >> 3 & 7
        m, level, single = int(MAP[n][r], 16), abs(n - r), int(n == 1)
        if changed & 16:
            self.intensities[m] = self.intensity.next(self.intensities[m], min(m, 3))
        if changed & 8:
            kind = self.d.symbol(self.classes[kind])
        if changed & 4:
            angle = (angle + self.d.symbol(self.angles[flags >> 6 & 1])) & 255
        if changed & 2:
            user = self.d.symbol(self.users[user])
        if changed & 1:
            source = self.source.next(source)
        step = self.dx.next(self.mx[m].v[2], single)
        self.mx[m].add(step)
        x = i32(x + step)
        step = self.dy.next(self.my[m].v[2], single + (self.dx.k & ~1 if self.dx.k < 20 else 20))
        self.my[m].add(step)
        y = i32(y + step)
        k = (self.dx.k + self.dy.k) // 2
        self.heights[level] = self.z.next(self.heights[level], single + (k & ~1 if k < 18 else 18))
        return struct.pack(
            "<3iH4BH", x, y, self.heights[level], self.intensities[m], flags, kind, angle, user, source
        )


PARTS = {0: "P", 1: "PT", 2: "PC", 3: "PTC", 4: "PTW", 5: "PTCW"}
SIZE = {"P": 20, "T": 8, "C": 6, "W": 29}


def pointwise(data, count, kind, extra):
    """Records of a chunk of formats 0 to 5."""
    sizes = [SIZE[p] for p in PARTS[kind]] + [1] * extra
    record = data[: sum(sizes)]
    d, made = Decoder(data, sum(sizes)), [bytes(record)]
    at = [sum(sizes[:n]) for n in range(len(sizes))]
    first_time = int.from_bytes(record[20:28], "little")
    coders = [
        {"P": Point10, "C": Rgb, "W": Wave}[p](d) if p != "T" else Times(d, 1, first_time)
        for p in PARTS[kind]
    ]
    coders += [Byte(d) for _ in range(extra)]
    for _ in range(count - 1):
        new = b""
        for coder, begin, size in zip(coders, at, sizes, strict=True):
            if isinstance(coder, Times):
                new += coder.next().to_bytes(8, "little")
            else:
                new += coder.next(made[-1][begin : begin + size])
        made.append(new)
    return b"".join(made), d.at


# The context of return r of n, a digit each: row n, column r.
SIX = [
    "0123453445555555",
    "1013333333333333",
    "2124444444444444",
    "3345444444444444",
    "4344544444444444",
    "5344454444444444",
    "3344445444444444",
    "4344444544444444",
    "4344444454444444",
    "5344444445444444",
    "5344444444544444",
    "5344444444455444",
    "5344444444455544",
    "5344444444445554",
    "5344444444444555",
    "5344444444444455",
]


def six(n, r):
    """The context of return r of n."""
    return int(SIX[n][r])


class Channel:
    """Models and memories of one scanner channel of POINT14."""

    def __init__(self, layers, point):
        place, z, _, _, intensity, angle, _, source, time = layers
        self.point, self.new_time = dict(point), False
        self.changed, self.to = [SymbolModel(128) for _ in range(8)], SymbolModel(3)
        self.returns, self.number = [SymbolModel(16) for _ in range(16)], [SymbolModel(16) for _ in range(16)]
        self.same_time = SymbolModel(13)
        self.dx, self.dy = Integers(place, 32, 2), Integers(place, 32, 22)
        self.mx, self.my = ([[Median(), Median()] for _ in range(6)] for _ in range(2))
        self.z, self.heights = Integers(z, 32, 20), [point["z"]] * 8
        self.classes, self.flags, self.users = (defaultdict(partial(SymbolModel, n)) for n in (256, 64, 256))
        self.intensity, self.intensities = Integers(intensity, 16, 4), [point["intensity"]] * 8
        self.angle, self.source = Integers(angle, 16, 2), Integers(source, 16)
        self.times = Times(time, 0, point["time"])


NAMES = ("x", "y", "z", "intensity", "pulse", "marks", "class", "user", "angle", "source", "time")
POINT14 = "<3iH4BHHQ"


def layered(data, kind, extra, version=3):
    """Records of a chunk of formats 6 to 10."""
    items = {
        6: [],
        7: [(Rgb, 6)],
        8: [(Rgb, 6), (Nir, 2)],
        9: [(Wave, 29)],
        10: [(Rgb, 6), (Nir, 2), (Wave, 29)],
    }[kind]
    items = items + [(Byte, 1)] * extra
    length = 30 + sum(size for _, size in items)
    number = 9 + len(items)
    count, *sizes = struct.unpack_from(f"<{1 + number}I", data, length)
    at, coders = length + 4 + 4 * number, []
    for size in sizes:
        coders.append(Decoder(data[at : at + size] + bytes(8)) if size else None)
        at += size
    point = dict(zip(NAMES, struct.unpack_from(POINT14, data), strict=True))
    channel = point["marks"] >> 4 & 3
    idle = Decoder(bytes(8))
    layers = [coder or idle for coder in coders[:9]]
    channels = {channel: Channel(layers, point)}
    begin, others = 30, []
    for (what, size), coder in zip(items, coders[9:], strict=True):
        others.append(Other(what, coder, channel, data[begin : begin + size], version))
        begin += size
    made = [data[:length]]
    for _ in range(count - 1):
        channel, point = next_point(channels, channel, layers, coders)
        made.append(struct.pack(POINT14, *point.values()) + b"".join(o.next(channel) for o in others))
    return b"".join(map(bytes, made))


class Other:
    """An item beside POINT14, with its models and last values by channel."""

    def __init__(self, what, coder, channel, first, version):
        self.what, self.coder, self.channel, self.version = what, coder, channel, version
        self.models, self.last = {channel: what(coder) if coder else None}, {channel: bytes(first)}

    def next(self, channel):
        source = self.channel
        if channel != self.channel:
            if channel not in self.last:
                self.models[channel] = self.what(self.coder) if self.coder else None
                self.last[channel] = self.last[self.channel]
                source = channel
            elif self.version != 3:
                source = channel
        self.channel = channel
        if self.coder:
            self.last[source] = self.models[channel].next(self.last[source])
        return self.last[source]


def next_point(channels, channel, layers, coders):
    place, _, classes, flags, _, _, user, _, _ = layers
    c = channels[channel]
    p = c.point
    r, n = p["pulse"] & 15, p["pulse"] >> 4
    changed = place.symbol(c.changed[(r == 1) + 2 * (r >= n) + 4 * c.new_time])
    if changed & 64:
        channel = (channel + place.symbol(c.to) + 1) % 4
        if channel not in channels:
            channels[channel] = Channel(layers, c.point)
        c = channels[channel]
        p = c.point
        r, n = p["pulse"] & 15, p["pulse"] >> 4
    new, old_marks = bool(changed & 16), p["marks"]
    q = dict(p)
    if changed & 4:
        n = place.symbol(c.returns[n])
    how = changed & 3
    if how == 3:
        r = place.symbol(c.number[r]) if new else (r + place.symbol(c.same_time) + 2) % 16
    else:
        r = (r + (0, 1, 15)[how]) % 16
    q["pulse"], single = n << 4 | r, int(n == 1)
    pulse = 2 * (r == 1) + (r >= n)
    median = c.mx[six(n, r)][new]
    step = c.dx.next(median.v[2], single)
    median.add(step)
    q["x"] = i32(p["x"] + step)
    median = c.my[six(n, r)][new]
    step = c.dy.next(median.v[2], single + min(c.dx.k & ~1, 20))
    median.add(step)
    q["y"] = i32(p["y"] + step)
    level = min(abs(n - r), 7)
    q["z"] = c.heights[level] = c.z.next(c.heights[level], single + min((c.dx.k + c.dy.k) // 2 & ~1, 18))
    if coders[2]:
        q["class"] = classes.symbol(c.classes[(p["class"] & 31) * 2 + (pulse == 3)])
    marks = old_marks & 15 | old_marks >> 2 & 48
    if coders[3]:
        marks = flags.symbol(c.flags[marks])
    q["marks"] = marks & 15 | channel << 4 | (marks & 48) << 2
    if coders[4]:
        slot = pulse * 2 + new
        q["intensity"] = c.intensities[slot] = c.intensity.next(c.intensities[slot], pulse)
    if coders[5] and changed & 8:
        q["angle"] = c.angle.next(p["angle"], int(new))
    if coders[6]:
        q["user"] = user.symbol(c.users[p["user"] // 4])
    if coders[7] and changed & 32:
        q["source"] = c.source.next(p["source"])
    if coders[8] and new:
        q["time"] = c.times.next()
    c.point, c.new_time = q, new
    return channel, q
