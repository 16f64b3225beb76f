"""What is written is read again: any points of any layout, in every format of points."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from depth import examples
from points.clouds import HOME, PLACE, whole, write
from zembrel.points.model import PointBlock
from zembrel.points.records import Layout

ENDINGS = ("las", "laz", "copc.laz", "ply", "csv", "xyz", "parquet")
VALUES = ("intensity", "class", "gps_time", "red", "nir", "source")


@st.composite
def clouds(draw: Any) -> PointBlock:
    """Any places that 32 bits hold, and any bits in the other values that have no rule."""
    layout, count = (
        Layout(draw(st.integers(0, 8).filter(lambda n: n not in (4, 5)))),
        draw(st.integers(1, 40)),
    )
    chance = np.random.default_rng(draw(st.integers(0, 2**32)))
    records = np.zeros(count, layout.dtype)
    far = draw(st.sampled_from([10, 10_000, 2**30]))
    for axis in "XYZ":
        records[axis] = chance.integers(-far, far, count)
    block = PointBlock(records, layout, PLACE).having("return", 1).having("returns", 1)
    for name in VALUES:
        if name in layout.names:
            most = {"class": 31, "gps_time": 2**40}.get(name, 2**16 - 1)
            block = block.having(name, chance.integers(0, most, count, endpoint=True))
    return block


@pytest.mark.parametrize("ending", ENDINGS)
@settings(max_examples=examples(25), deadline=None, suppress_health_check=list(HealthCheck))
@given(block=clouds())
def test_points_come_back(ending: str, block: PointBlock) -> None:
    if ending == "copc.laz" and not block.layout.long:
        return  # the standard knows the new formats alone
    with tempfile.TemporaryDirectory() as folder:
        again = whole(write(Path(folder) / f"a.{ending}", block, HOME))
        assert len(again) == len(block)
        order, back = (np.lexsort((b.z, b.y, b.x)) for b in (block, again))
        if ending != "copc.laz":  # whose points go by place
            order = back = np.arange(len(block))
        for axis in "xyz":
            np.testing.assert_allclose(
                getattr(again, axis)[back], getattr(block, axis)[order], rtol=0, atol=1e-6
            )
        if ending == "copc.laz" and len(set(zip(block.x, block.y, block.z, strict=True))) < len(block):
            return
        lost = {"ply": ("red",), "xyz": VALUES}.get(
            ending, ()
        )  # colours of 8 bits there, and places alone here
        for name in set(VALUES) - set(lost):
            if name in block.layout.names:
                assert name in again.layout.names
                np.testing.assert_array_equal(
                    np.asarray(again.values(name))[back], np.asarray(block.values(name))[order]
                )
