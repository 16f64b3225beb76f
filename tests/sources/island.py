"""A small island behind every kind of service: a slope of colours, a plane of heights, and one white spot."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from program import Program
from zembrel.standins.services.app import Island
from zembrel.standins.services.catalogues import ShelfItem
from zembrel.standins.services.faults import Faults
from zembrel.standins.services.scene import Seen
from zembrel.standins.services.serving import served

SPOT = (-24.0, 46.0)
REACH = 0.0002  # degrees of latitude that the spot reaches each way
BOUNDS = (-24.05, 45.95, -23.95, 46.05)
HOME = (727_000.0, 5_093_000.0, 738_000.0, 5_105_000.0)  # metres of zone 26N around it


def scene(lon: Any, lat: Any) -> Seen:
    """The spot is white and 500 m high, all else is dark and rises to the north-east."""
    x, y = lon - SPOT[0], lat - SPOT[1]
    spot = (np.abs(x) < REACH * 1.44) & (np.abs(y) < REACH)
    colours = np.stack(
        [
            np.where(spot, 255, 60 + 400 * x % 60),
            np.where(spot, 255, 80 + 0 * y),
            np.where(spot, 255, 40 + 0 * y),
        ]
    )
    heights = np.where(spot, 500.0, 100.0 + 1_000 * x + 500 * y)
    return Seen(colours, heights, np.where(spot, 6, 2 + (np.floor(lat * 1_000) % 3)).astype(np.uint8))


@dataclass(frozen=True)
class Site:
    """The server: its address, what goes wrong there, and how to add sources of it."""

    address: str
    faults: Faults

    def add(self, program: Program, name: str, path: str, kind: str, **settings: object) -> None:
        """A source of this server, which is of this machine."""
        words = [
            f"--set={key.replace('__', '.')}={value}"
            for key, value in {"private": "true", **settings}.items()
        ]
        program("source", "add", name, self.address + path, "--kind", kind, *words, "--replace")

    def calm(self) -> None:
        """Nothing goes wrong any more."""
        vars(self.faults).update(vars(Faults(asked=self.faults.asked)))


@contextmanager
def site(
    images: Sequence[ShelfItem] = (), blocks: Sequence[ShelfItem] = (), signed: float = 0.0
) -> Iterator[Site]:
    """The server, for a while."""
    places = (("High Marrow", *SPOT), ("Marrow Harbour", -23.98, 45.984))
    island = Island(scene, BOUNDS, HOME, images, blocks, places, signed, Faults())
    with served(island) as address:
        yield Site(address, island.faults)


def shelf_item(
    path: Path, bounds: tuple[float, float, float, float], day: str, cloud: float, group: str = "images"
) -> ShelfItem:
    return ShelfItem(path, group, bounds, day, cloud)
