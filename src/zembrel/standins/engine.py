"""A simulation engine: a raw square of 16 bits, the measures that are typed in, and overlays over it."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.standins.verdict import SCREEN, Verdict, need

_SKY, _LARGEST = np.array([158, 190, 214]), 16_384
_MEASURES = ("east_west_m", "north_south_m", "relief_m", "lowest_m")
_ROUGHER = 3.0  # times the mean step in the other byte order, which only a wrong one makes
_STEEP = 0.25  # of the range: mean step between neighbours that only a wrong byte order makes


def judge(path: Path) -> Verdict:
    """What the engine says of the folder at `path`."""
    need(path.is_dir(), "it takes a folder")
    need((path / "terrain.toml").is_file(), "terrain.toml is not there")
    told = tomllib.loads((path / "terrain.toml").read_text("utf-8"))
    for name in _MEASURES:
        need(isinstance(told.get(name), int | float), f"{name} is not told")
    need(told["east_west_m"] > 0 and told["relief_m"] > 0, "it has no size")
    raw = path / str(told.get("terrain", ""))
    need(raw.is_file(), "the terrain is not there")
    side = round((raw.stat().st_size / 2) ** 0.5)
    need(2 * side * side == raw.stat().st_size, "it is no square of 16 bits")
    need(side > 2 and (side - 1) & (side - 2) == 0, f"{side} heights a side are not 2^n + 1")
    numbers = np.fromfile(raw, "<u2" if told.get("order") == "little" else ">u2").reshape(side, side)
    numbers = numbers if told.get("first_row") == "top" else numbers[::-1]
    steps = np.abs(np.diff(numbers.astype(np.int32), axis=1)).mean() / 65_535
    other = np.abs(np.diff(numbers.byteswap().astype(np.int32), axis=1)).mean() / 65_535
    noise = float(steps) >= _STEEP or float(steps) > _ROUGHER * float(other)
    need(not noise, "it looks like noise: the order of its bytes may be the other one")
    need(int(numbers.max()) > int(numbers.min()), "it is flat")
    overlays = [_overlay(path / str(name)) for name in told.get("overlays", [])]
    heights = numbers / 65_535 * told["relief_m"]
    facts = {"heights": f"{side} x {side}", "size": f"{told['east_west_m']:g} x {told['north_south_m']:g} m",
             "relief": f"{told['relief_m']:g} m", "overlays": len(overlays)}  # fmt: skip
    return Verdict((), facts, _flown_over(heights, overlays[0] if overlays else None, told["east_west_m"]))


def _overlay(path: Path) -> Any:
    from PIL import Image

    need(path.is_file(), f"the overlay {path.name} is not there")
    Image.MAX_IMAGE_PIXELS = _LARGEST**2
    with Image.open(path) as picture:
        need(picture.width == picture.height <= _LARGEST, f"{path.name} has {picture.size} cells")
        return np.asarray(picture.convert("RGB").resize((2048, 2048)))


def _flown_over(heights: Any, overlay: Any, side_m: float) -> Any:
    """The terrain from above its lower edge: columns of the screen filled from near to far."""
    width, height = SCREEN
    rows, columns = heights.shape
    light = _lit(heights, side_m)
    if overlay is None:
        overlay = np.repeat((90 + 140 * heights / max(heights.max(), 1e-9))[..., None], 3, axis=2)
    eye_height, focus, horizon = heights.max() + 0.28 * side_m, 0.9 * width, -0.2 * height
    screen = np.broadcast_to(_SKY, (height, width, 3)).astype(np.uint8).copy()
    top = np.full(width, height)
    across = np.arange(width) - width / 2
    for away in np.geomspace(0.18, 1.45, 1400) * side_m:
        x = 0.5 * side_m + across / focus * away
        y = 1.22 * side_m - away  # from the top edge
        if not 0 <= y < side_m:
            continue
        inside = (x >= 0) & (x < side_m)
        r = min(rows - 1, int(y / side_m * (rows - 1)))
        c = np.clip((x / side_m * (columns - 1)).astype(int), 0, columns - 1)
        at = horizon + (eye_height - heights[r, c]) / away * focus
        at = np.where(inside, np.clip(at, 0, height), height).astype(int)
        o = overlay[
            min(len(overlay) - 1, int(y / side_m * len(overlay))),
            (c * (overlay.shape[1] / columns)).astype(int),
        ]
        colour = np.clip(o * light[r, c][:, None], 0, 255).astype(np.uint8)
        higher = np.flatnonzero(at < top)
        tall = (top - at)[higher]
        column, first = np.repeat(higher, tall), np.repeat(at[higher] - np.cumsum(tall) + tall, tall)
        screen[first + np.arange(column.size), column] = colour[column]
        top = np.minimum(top, at)
    return screen


def _lit(heights: Any, side_m: float) -> Any:
    """How light slopes are, of a sun in the north-west."""
    step = side_m / (len(heights) - 1)
    down, right = np.gradient(heights, step)
    return np.clip(1 + 0.9 * (right + down) / np.hypot(1, np.hypot(right, down)), 0.45, 1.35)
