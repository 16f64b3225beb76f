"""Projections against the worked examples of the registry, and against what their names promise."""

from __future__ import annotations

import math
import tomllib
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from zembrel.errors import InputError
from zembrel.geodesy.ellipsoid import WGS_84, Ellipsoid
from zembrel.geodesy.projections import Projection, build
from zembrel.geodesy.projections.methods import METHODS
from zembrel.geodesy.text.names import parameters_of

EXAMPLES = tomllib.loads((Path(__file__).parent / "examples.toml").read_text())
ANGLES = {8801, 8802, 8811, 8812, 8813, 8814, 8818, 8821, 8822, 8823, 8824, 8832, 8833, 1036}
SECOND = math.radians(1 / 3600)


def radians(value: float | str) -> float:
    """Degrees as a number, or as `-D M S`."""
    if not isinstance(value, str):
        return math.radians(value)
    degrees, minutes, seconds = value.removeprefix("-").split()
    size = float(degrees) + float(minutes) / 60 + float(seconds) / 3600
    return math.radians(-size if value.startswith("-") else size)


def projection(example: dict[str, Any]) -> Projection:
    parameters = {
        int(code): radians(value) if int(code) in ANGLES else float(value)
        for code, value in example["parameters"].items()
    }
    return build(example["method"], Ellipsoid("", *example["ellipsoid"]), parameters)


@pytest.mark.parametrize("name", EXAMPLES)
def test_worked_examples_are_met_to_their_printed_precision(name: str) -> None:
    made = projection(EXAMPLES[name])
    for lat, lon, x, y, decimals in EXAMPLES[name]["points"]:
        at = np.array([radians(lon)]), np.array([radians(lat)])
        found = made.forward(*at)
        step = 0.75 * 10.0**-decimals
        assert (found[0][0], found[1][0]) == pytest.approx((x, y), abs=step)
        back = made.inverse(np.array([x]), np.array([y]))
        slack = max(0.0006 * SECOND, 2 * step / EXAMPLES[name]["ellipsoid"][0])
        assert (back[0][0], back[1][0]) == pytest.approx((at[0][0], at[1][0]), abs=slack)


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("angle", [0.0, math.pi / 2, -math.pi / 2, 1e9])
@pytest.mark.parametrize("other", [0.0, 1.0])
def test_parameters_that_make_no_map_are_refused(method: int, angle: float, other: float) -> None:
    """A cone through the equator, a scale of 0 and the like: a map or a refusal, never a fault."""
    codes = parameters_of(method)
    assert codes
    with suppress(InputError), np.errstate(all="ignore"):
        made = build(method, WGS_84, {code: angle if code in ANGLES else other for code in codes})
        assert np.shape(made.forward(np.array([0.1, 3.0]), np.array([0.2, -1.5]))) == (2, 2)
