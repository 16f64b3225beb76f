"""Ground with things on it, of which every point is known to be of the ground or not."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
SIDE = 160.0  # metres
DENSITY = 4.4  # points a square metre
NOISE = 0.04  # metres


@dataclass(frozen=True)
class Scene:
    """Heights of the ground and of what is seen from above, at places in metres; NaN where nothing stands."""

    ground: Callable[[Array, Array], Array]
    things: Callable[[Array, Array], Array]


def points_of(
    scene: Scene, seed: int = 1, density: float = DENSITY
) -> tuple[Array, Array, Array, npt.NDArray[np.bool_]]:
    """x, y, z and whether it is the ground, of points by chance."""
    random = np.random.default_rng(seed)
    x, y = random.uniform(0, SIDE, (2, int(SIDE**2 * density)))
    ground, thing = scene.ground(x, y), scene.things(x, y)
    here = np.isfinite(thing)
    return x, y, np.where(here, thing, ground) + random.normal(0, NOISE, x.size), ~here


def nothing(x: Array, y: Array) -> Array:
    return np.full(x.shape, np.nan)


def rolling(x: Array, y: Array) -> Array:
    """Gentle hills, up to 15 degrees steep."""
    return 20 + 4 * np.sin(x / 27) + 3 * np.cos(y / 19 + x / 60)


def roofs(
    height: float, ground: Callable[[Array, Array], Array] = rolling
) -> Callable[[Array, Array], Array]:
    """Flat roofs of 3 to 18 m, turned, so high above the highest ground under them."""

    def found(x: Array, y: Array) -> Array:
        made = np.full(x.shape, np.nan)
        sizes = [(3, 4), (5, 6), (8, 10), (10, 18), (6, 18), (12, 12)]
        for n in range(25):
            across, along = sizes[n % len(sizes)]
            at_x, at_y = 18.0 + 31 * (n % 5), 18.0 + 31 * (n // 5)
            turn = 0.31 * n
            u = (x - at_x) * np.cos(turn) + (y - at_y) * np.sin(turn)
            v = (y - at_y) * np.cos(turn) - (x - at_x) * np.sin(turn)
            inside = (np.abs(u) <= across / 2) & (np.abs(v) <= along / 2)
            made[inside] = ground(x[inside], y[inside]).max() + height
        return made

    return found


def terraced(x: Array, y: Array) -> Array:
    """A slope in walls of 1.2 to 3 m, 7 to 16 m apart, that bend."""
    along = y + 6 * np.sin(x / 23)
    walls = [
        (20, 1.2),
        (27, 1.5),
        (41, 2.0),
        (50, 3.0),
        (66, 2.5),
        (80, 1.8),
        (92, 3.0),
        (108, 1.2),
        (120, 2.2),
    ]
    return 10 + along / 20 + sum(np.where(along > at, rise, 0.0) for at, rise in walls)


def cliffs(x: Array, y: Array) -> Array:
    """Land 18 m above a beach, in capes and bays; a stack of rock wider than any building stands before it."""
    edge = 70 + 22 * np.sin(x / 13) + 8 * np.sin(x / 5.1 + 1)
    land = y > edge
    return np.where(land, 20 + 0.05 * (y - edge) + 0.4 * np.sin(x / 9), 2 + 0.02 * y)


def embankments(x: Array, y: Array) -> Array:
    """Two dams, 3 and 6 m high, crests of 6 and 9 m, sides 2 in 3, that cross the plain and bend."""
    made = rolling(x, y) * 0.2
    for middle, height, crest, turn in ((45.0, 3.0, 6.0, 15.0), (115.0, 6.0, 9.0, -20.0)):
        away = np.abs(y - middle - turn * np.sin(x / 50))
        made = np.maximum(made, 4 + height - np.maximum(away - crest / 2, 0) / 1.5)
    return made


def valley(x: Array, y: Array) -> Array:
    """A valley of 7 m with banks of 30 degrees, across x, and a road of dams that ends at a cut of 12 m."""
    away = np.abs(x - 60 - 5 * np.sin(y / 30))
    made = 20 + 0.3 * np.sin(y / 17) - np.clip((26 - away) * 0.58, 0, 7)
    dam = np.abs(y - 120)
    on_dam = (x > 95) & (np.abs(x - 125) > 6)
    return np.where(on_dam, np.maximum(made, 26 - np.maximum(dam - 5, 0) / 1.5), made)


def bridges(x: Array, y: Array) -> Array:
    """Decks on the height of the road at their ends: over the valley at 40, over the cut of the dam at 120."""
    over = (np.abs(y - 40 - 0.1 * (x - 60)) < 4.5) & (valley(x, y) < 19.0) & (x < 95)
    cut = (np.abs(y - 120) < 5) & (np.abs(x - 125) <= 6)
    return np.where(over, 20.0, np.where(cut, 26.0, np.nan))


SCENES = {f"roofs of {height} m": Scene(rolling, roofs(height)) for height in (1.8, 2.4, 3.0, 4.0, 6.0)} | {
    "terraces": Scene(terraced, nothing),
    "cliffs": Scene(cliffs, nothing),
    "embankments": Scene(embankments, nothing),
    "bridges": Scene(valley, bridges),
}
