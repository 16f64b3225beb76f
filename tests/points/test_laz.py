"""Compressed chunks: what is packed comes back to the bit, and a second decoder agrees."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import depth
from depth import examples
from points import plain_laz
from zembrel.points.laz.chunks import ChunkCodec, read_table, write_table
from zembrel.points.laz.fields import level_of_height
from zembrel.points.laz.history import SIX_CONTEXTS
from zembrel.points.records import ExtraField, Layout

EXTRA = (ExtraField("height", "<f4"), ExtraField("quality", "u1"))
LAYOUTS = [Layout(number, extra) for number in range(11) for extra in ((), EXTRA)]
PATTERNS = ("random", "extremes", "flight", "still")


def named(layout: Layout) -> str:
    return f"format{layout.format}{'+extra' * bool(layout.extra)}"


def records(layout: Layout, count: int, pattern: str, seed: int = 1) -> np.ndarray:
    """Records of (count, bytes): noise, edge values, points of a flight with several channels, or all alike."""
    random, size = np.random.default_rng(seed), layout.dtype.itemsize
    if pattern == "random":
        return random.integers(0, 256, (count, size), np.uint8)
    if pattern == "extremes":
        return random.choice(np.array([0, 1, 127, 128, 254, 255], np.uint8), (count, size))
    made = np.zeros(count, layout.dtype)
    if pattern == "flight":
        made["X"], made["Y"] = np.cumsum(random.normal(0, 40, (2, count)), axis=1).astype(int)
        made["Z"], made["intensity"] = random.normal(800, 60, (2, count)).astype(int)
        made["returns"] = random.choice([0x11, 0x21, 0x22, 0x31, 0x0A, 0x12], count)
        made["source"], made["scan_angle"] = np.arange(count) // 90, np.arange(count) % 60 - 30
        if "gps_time" in made.dtype.names:
            made["gps_time"] = 3e8 + np.cumsum(random.choice([0, 1e-5, 2e-5, 1e-4, 7e3, -7e3], count))
        if "red" in made.dtype.names:
            made["red"], made["green"] = random.normal(20000, 900, (2, count)).astype(int)
            made["blue"] = np.where(random.random(count) < 0.5, made["red"], made["green"])
        if layout.long:
            made["flags"] = random.choice([0x00, 0x10, 0x20, 0x30, 0x40, 0x81], count)
    return made.view(np.uint8).reshape(count, size)


@pytest.mark.parametrize("layout", LAYOUTS, ids=named)
@pytest.mark.parametrize("pattern", PATTERNS)
def test_what_is_packed_comes_back_to_the_bit(layout: Layout, pattern: str) -> None:
    for count in (1, 2, 3, 700):
        given_ = records(layout, count, pattern)
        back, there = ChunkCodec(layout).decode(
            np.frombuffer(ChunkCodec(layout).encode(given_), np.uint8), count
        )
        assert there == count
        np.testing.assert_array_equal(back, given_)


@pytest.mark.parametrize("layout", LAYOUTS, ids=named)
@pytest.mark.parametrize("pattern", depth.some(("random", "flight"), ("flight",)))
def test_the_second_decoder_reads_the_same(layout: Layout, pattern: str) -> None:
    given_, extra = records(layout, 40, pattern, 7), sum(field.size for field in layout.extra)
    packed = ChunkCodec(layout).encode(given_)
    if layout.long:
        assert plain_laz.layered(packed, layout.format, extra) == given_.tobytes()
        newer = ChunkCodec(layout, 4).encode(given_)
        assert plain_laz.layered(newer, layout.format, extra, 4) == given_.tobytes()
    else:
        back, end = plain_laz.pointwise(packed + bytes(4), len(given_), layout.format, extra)
        assert back == given_.tobytes() and end == len(packed), "a chunk ends where its decoder does"


@given(st.sampled_from(LAYOUTS), st.data())
@settings(max_examples=examples(60), deadline=None)
def test_any_values_of_any_fields_come_back(layout: Layout, data: st.DataObject) -> None:
    edges = [0, 1, 2, 127, 128, 255]
    size = layout.dtype.itemsize
    row = st.lists(st.one_of(st.sampled_from(edges), st.integers(0, 255)), min_size=size, max_size=size)
    given_ = np.array(data.draw(st.lists(row, min_size=1, max_size=8)), np.uint8)
    codec = ChunkCodec(layout)
    back, there = codec.decode(np.frombuffer(codec.encode(given_), np.uint8), len(given_))
    assert there == len(given_)
    np.testing.assert_array_equal(back, given_)


@pytest.mark.parametrize("number", (6, 8, 10))
def test_fields_that_are_not_wanted_stay_zero_and_the_others_are_whole(number: int) -> None:
    layout = Layout(number, EXTRA)
    given_ = records(layout, 500, "flight")
    whole = given_.reshape(-1).view(layout.dtype)
    data = np.frombuffer(ChunkCodec(layout).encode(given_), np.uint8)
    for wanted in ({"z"}, {"z", "class"}, {"intensity", "gps_time"}, {"quality", "overlap"}):
        back, _ = ChunkCodec(layout).decode(data, 500, frozenset(wanted))
        part = back.reshape(-1).view(layout.dtype)
        for name in ("X", "Y", "returns", *(layout.stored(name) for name in wanted)):
            np.testing.assert_array_equal(part[name], whole[name])
        left = {"Z", "intensity", "gps_time"} - {layout.stored(name) for name in wanted}
        assert all(not part[name][1:].any() for name in left)


@pytest.mark.parametrize("layout", LAYOUTS[::2], ids=named)
def test_a_chunk_cut_off_anywhere_tells_fewer_points(layout: Layout) -> None:
    given_ = records(layout, 300, "flight")
    data = np.frombuffer(ChunkCodec(layout).encode(given_), np.uint8)
    for size in np.linspace(0, len(data) - 5, 25).astype(int):
        back, there = ChunkCodec(layout).decode(data[:size], 300)
        assert there < 300
        if not layout.long:  # what was decoded well before the end is right
            good = max(there - 40, 0)
            np.testing.assert_array_equal(back[:good], given_[:good])


@given(st.lists(st.tuples(st.integers(1, 2**31), st.integers(1, 2**32 - 1)), max_size=30), st.booleans())
@settings(max_examples=examples(60), deadline=None)
def test_tables_of_chunks_come_back(rows: list[tuple[int, int]], variable: bool) -> None:
    numbers = np.array(rows, np.int64).reshape(-1, 2)
    packed = np.frombuffer(write_table(numbers, variable=variable), np.uint8)
    back = read_table(packed, 0, variable=variable, most=30)
    assert back is not None
    np.testing.assert_array_equal(back[:, 1], numbers[:, 1])
    np.testing.assert_array_equal(back[:, 0], numbers[:, 0] if variable else 0)
    assert read_table(packed, 0, variable=variable, most=len(rows) - 1) is None


def test_the_tables_of_returns_are_these() -> None:
    """Both of POINT14, number of returns by return number, as docs/points.md says what they rest on."""
    contexts = ["".join(map(str, row)) for row in SIX_CONTEXTS]
    assert contexts == plain_laz.SIX
    levels = [
        "0123456777777777",
        "1012345677777777",
        "2101234567777777",
        "3210123456777777",
        "4321012345677777",
        "5432101234567777",
        "6543210123456777",
        "7654321012345677",
        "7765432101234567",
        "7776543210123456",
        "7777654321012345",
        "7777765432101234",
        "7777776543210123",
        "7777777654321012",
        "7777777765432101",
        "7777777776543210",
    ]
    record = np.zeros(30, np.uint8)
    for n, row in enumerate(levels):
        for r, level in enumerate(row):
            record[14] = n << 4 | r
            assert level_of_height.py_func(record, 0) == int(level)
