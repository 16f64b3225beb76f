"""Features: points, lines and polygons with attributes, their files, and which cells they cover."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.features import antimeridian as antimeridian
    from zembrel.features import cover as cover
    from zembrel.features import files as files
    from zembrel.features import table as table

__getattr__ = on_demand(__name__)
