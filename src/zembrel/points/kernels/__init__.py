"""Numba kernels on points: contiguous arrays and plain numbers in, arrays out."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.points.kernels import binning as binning
    from zembrel.points.kernels import delaunay as delaunay
    from zembrel.points.kernels import outlines as outlines
    from zembrel.points.kernels import spacing as spacing
    from zembrel.points.kernels import triangles as triangles

__getattr__ = on_demand(__name__)
