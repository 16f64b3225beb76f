"""What a pack says of itself, whatever its kind."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from zembrel.grid.tiling import Bounds, Tiling
from zembrel.provenance import KEY, document

TYPES = {"png": "image/png", "jpeg": "image/jpeg", "webp": "image/webp"}
ENDINGS = {"png": "png", "jpeg": "jpg", "webp": "webp"}


@dataclass(frozen=True)
class PackFacts:
    """Name, tiles and place of a pack.

    lowest and highest: zooms; bounds: west, south, east and north of the data in degrees; cells: along a side
    of a tile; format: of most tiles; mixed: whether others have another; elevation: the numbers of the
    formula that makes heights of colours; provenance: the steps behind it, as JSON.
    """

    name: str
    tiling: Tiling
    lowest: int
    highest: int
    bounds: Bounds
    cells: int = 256
    format: str = "png"
    mixed: bool = False
    attribution: str = ""
    description: str = ""
    elevation: Mapping[str, Any] = field(default_factory=dict)
    provenance: str | None = field(default_factory=document)

    @property
    def centre(self) -> tuple[float, float, int]:
        """Longitude, latitude and zoom at which a viewer may begin."""
        west, south, east, north = self.bounds
        return (west + east) / 2, (south + north) / 2, (self.lowest + self.highest + 1) // 2

    def tile_json(self, address: str, scheme: str = "xyz") -> dict[str, Any]:
        """TileJSON 3.0.0 for tiles at `address`, with {z}, {x} and {y}."""
        facts: dict[str, Any] = {
            "tilejson": "3.0.0", "name": self.name, "tiles": [address], "scheme": scheme,
            "minzoom": self.lowest, "maxzoom": self.highest,
            "bounds": [round(side, 9) for side in self.bounds],
            "center": [round(self.centre[0], 9), round(self.centre[1], 9), self.centre[2]],
        }  # fmt: skip
        facts |= {"attribution": self.attribution} if self.attribution else {}
        facts |= {"description": self.description} if self.description else {}
        facts |= {KEY: json.loads(self.provenance)} if self.provenance is not None else {}
        facts |= {"tile_matrix_set": self.tiling.name, "tile_cells": self.cells}
        return facts | ({"elevation": dict(self.elevation)} if self.elevation else {})

    def text(self, address: str, scheme: str = "xyz") -> str:
        """The same as text."""
        return json.dumps(self.tile_json(address, scheme), indent=1) + "\n"
