"""LAZ, the compressed form of LAS: own code, after the published LAZ specification 1.4.

Comments name the item and field of the specification they come from. Kernels get the state of the coder
and of the models by pointer, which is four times as fast as by arrays. A model of zeros is one that has
not begun: it begins at its first symbol, so nothing has to be set up but zeros.
"""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.points.laz import chunks as chunks

__getattr__ = on_demand(__name__)
