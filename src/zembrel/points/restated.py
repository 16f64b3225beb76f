"""A cloud of which something else is believed than its file says."""

from __future__ import annotations

from dataclasses import dataclass

from zembrel.points.las.source import LasSource
from zembrel.points.model import Cloud, Fields, Part, PointBlock, PointSource


@dataclass(frozen=True, eq=False)
class Restated:
    """`source` with other facts: a CRS that its file does not say, bounds of its parts."""

    source: PointSource
    cloud: Cloud
    parts: tuple[Part, ...]

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        return self.source.read(part, fields)


def las_of(source: PointSource) -> LasSource | None:
    """The LAS file behind a cloud, if it is one."""
    while isinstance(source, Restated):
        source = source.source
    return source if isinstance(source, LasSource) else None
