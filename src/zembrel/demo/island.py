"""The island's shape and colours as functions of a place: nothing here has cells.

Places are metres east and north of the island's middle in UTM zone 26N (EPSG:32626).
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zembrel.compiling import kernel, part_of_kernels
from zembrel.demo.noise import fractal, noise, ridged

Array = npt.NDArray[np.float64]
MIDDLE = (732_400.0, 5_098_400.0)  # easting and northing
REACH = (5_200.0, 4_000.0)  # half the ground that sheets cover, east and north
STEP = 2.0  # metres over which slopes are measured
SHORE = 0.004  # how far inland the sea's colours reach
COAST_PATH = 0.075  # how far inland the coastal path runs

WATER, SAND, GRASS, HEATH, WOOD, ROCK = 1, 2, 3, 4, 5, 6
CLASSES = {
    WATER: ("open water", (88, 131, 153)),
    SAND: ("sand and shingle", (226, 208, 160)),
    GRASS: ("grassland", (158, 184, 104)),
    HEATH: ("heath", (148, 118, 128)),
    WOOD: ("wood", (62, 104, 66)),
    ROCK: ("bare rock", (158, 152, 146)),
}


@part_of_kernels
def _inland(x, y):  # type: ignore[no-untyped-def]
    """0 on the coast, about 1 in the middle, negative at sea."""
    wx = x + 700.0 * fractal(x / 2600.0, y / 2600.0, 2, 4624)
    wy = y + 700.0 * fractal(x / 2600.0, y / 2600.0, 2, 4711)
    east, north = 0.96 * wx + 0.28 * wy, -0.28 * wx + 0.96 * wy
    bay = 0.55 * math.exp(-((x - 1500.0) ** 2 + (y + 2500.0) ** 2) / 900.0**2)
    return (
        1.0 - math.hypot(east / 4100.0, north / 2650.0) + 0.14 * fractal(x / 700.0, y / 700.0, 3, 4801) - bay
    )


@part_of_kernels
def _smooth(t):  # type: ignore[no-untyped-def]
    t = min(max(t, 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@part_of_kernels
def _height(x, y, inland):  # type: ignore[no-untyped-def]
    """Metres above the sea; below 0 it is the sea floor."""
    if inland <= 0.0:
        return -90.0 * (1.0 - math.exp(2.2 * inland)) - 0.01
    ridge = ridged(x / 2300.0, y / 2300.0, 6, 4900)
    cliff = (4.0 + 42.0 * _smooth(0.5 + 1.6 * noise(x / 1500.0, y / 1500.0, 4950))) * _smooth(inland / 0.035)
    hills = 720.0 * _smooth(inland / 0.75) ** 1.1 * (0.16 + ridge)
    return 0.3 + cliff + hills * _smooth(inland / 0.15)


@part_of_kernels
def _covers(x, y, height, slope):  # type: ignore[no-untyped-def]
    """Shares of sand, grass, heath, wood and rock at a place on land."""
    mottle = fractal(x / 420.0, y / 420.0, 4, 5000)
    sand = 1.0 - _smooth((height + 30.0 * slope - 5.0) / 4.0)
    rock = _smooth((slope - 0.72 + 0.15 * mottle) / 0.25) + _smooth((height - 520.0 + 90.0 * mottle) / 60.0)
    rock = min(rock, 1.0) * (1.0 - sand)
    wood = _smooth((mottle + 0.03) / 0.12) * (1.0 - _smooth((height - 230.0) / 50.0)) * (1.0 - rock - sand)
    heath = _smooth((height - 170.0 + 130.0 * mottle) / 70.0) * (1.0 - rock - sand - wood)
    return sand, max(1.0 - sand - rock - wood - heath, 0.0), heath, wood, rock


@part_of_kernels
def _rise(x, y, inland):  # type: ignore[no-untyped-def]
    """Height, its slopes east and north, and how fast `inland` grows along the ground, at a place on land."""
    height = _height(x, y, inland)
    east, north = _inland(x + STEP, y), _inland(x, y + STEP)
    across = (_height(x + STEP, y, east) - height) / STEP
    up = (_height(x, y + STEP, north) - height) / STEP
    return height, across, up, math.hypot(east - inland, north - inland) / STEP


@part_of_kernels
def _path(x, y, inland, growth):  # type: ignore[no-untyped-def]
    """1 on the coastal path and the two paths to the summit, falling to 0 beside them."""
    best = abs(inland - COAST_PATH) / max(growth, 1e-5)
    if inland > COAST_PATH:
        for bend, offset in ((520.0, 350.0), (610.0, -900.0)):
            best = min(best, abs(y - offset - bend * math.sin(x / (bend + 150.0))))
    return math.exp(-((best / 5.5) ** 2))


@part_of_kernels
def _sea_colour(x, y, height, inland):  # type: ignore[no-untyped-def]
    deep = 1.0 - math.exp(height / 26.0)
    swell = 2.2 * noise(x / 60.0 + y / 200.0, y / 26.0, 5100) + 1.5 * noise(x / 23.0, y / 17.0, 5110)
    surf = math.exp(inland / 0.006) * (0.55 + 0.6 * noise(x / 45.0, y / 45.0, 5120))
    red = 96.0 - 62.0 * deep + swell + 110.0 * surf
    green = 152.0 - 78.0 * deep + swell + 75.0 * surf
    blue = 158.0 - 56.0 * deep + swell + 72.0 * surf
    return red, green, blue


@part_of_kernels
def _land_colour(x, y, inland):  # type: ignore[no-untyped-def]
    height, across, up, growth = _rise(x, y, inland)
    slope = math.hypot(across, up)
    sand, grass, heath, wood, rock = _covers(x, y, height, slope)
    grain = 7.0 * noise(x / 41.0, y / 41.0, 5200) + 4.0 * noise(x / 21.0, y / 21.0, 5210)
    crowns = 15.0 * wood * noise(x / 27.0, y / 27.0, 5220)
    red = 214.0 * sand + 134.0 * grass + 122.0 * heath + 58.0 * wood + 138.0 * rock
    green = 196.0 * sand + 150.0 * grass + 104.0 * heath + 88.0 * wood + 130.0 * rock
    blue = 152.0 * sand + 84.0 * grass + 92.0 * heath + 58.0 * wood + 122.0 * rock
    light = (-across * 0.45 + up * 0.50 + 0.74) / math.sqrt(1.0 + slope * slope)
    light = 0.42 + 0.78 * max(light, 0.0)
    path = 0.8 * _path(x, y, inland, growth)
    red, green, blue = red + grain + crowns, green + grain + crowns, blue + 0.7 * grain + crowns
    red, green, blue = (
        red + path * (206.0 - red),
        green + path * (188.0 - green),
        blue + path * (150.0 - blue),
    )
    return red * light, green * light, blue * light


@kernel
def _colours_at(x, y, out):  # type: ignore[no-untyped-def]
    for n in range(x.size):
        inland = _inland(x[n], y[n])
        land = _smooth(inland / SHORE)
        red = green = blue = 0.0
        if land < 1.0:
            sea = min(inland, 0.0)
            red, green, blue = _sea_colour(x[n], y[n], _height(x[n], y[n], sea), sea)
        if land > 0.0:
            r, g, b = _land_colour(x[n], y[n], inland)
            red, green, blue = red + land * (r - red), green + land * (g - green), blue + land * (b - blue)
        out[0, n] = min(max(red, 20.0), 255.0)
        out[1, n] = min(max(green, 20.0), 255.0)
        out[2, n] = min(max(blue, 20.0), 255.0)


@kernel
def _heights_at(x, y, out):  # type: ignore[no-untyped-def]
    for n in range(x.size):
        out[n] = _height(x[n], y[n], _inland(x[n], y[n]))


@kernel
def _inland_at(x, y, out):  # type: ignore[no-untyped-def]
    for n in range(x.size):
        out[n] = _inland(x[n], y[n])


@kernel
def _classes_at(x, y, out):  # type: ignore[no-untyped-def]
    for n in range(x.size):
        out[n] = 1
        inland = _inland(x[n], y[n])
        if inland > 0.0:
            height, across, up, _ = _rise(x[n], y[n], inland)
            shares = _covers(x[n], y[n], height, math.hypot(across, up))
            best = 0
            for k in range(5):
                if shares[k] > shares[best]:
                    best = k
            out[n] = best + 2


def colours(x: Array, y: Array) -> Array:
    """Red, green and blue of a photo taken straight down, (3, n), 20 to 255."""
    out = np.empty((3, x.size))
    _colours_at(x, y, out)
    return out


def heights(x: Array, y: Array) -> Array:
    """Metres above the sea, (n,); negative at sea."""
    out = np.empty(x.size)
    _heights_at(x, y, out)
    return out


def inland(x: Array, y: Array) -> Array:
    """How far from the coast, (n,): 0 on it, negative at sea."""
    out = np.empty(x.size)
    _inland_at(x, y, out)
    return out


def classes(x: Array, y: Array) -> npt.NDArray[np.uint8]:
    """Land cover codes of CLASSES, (n,)."""
    out = np.empty(x.size, np.uint8)
    _classes_at(x, y, out)
    return out
