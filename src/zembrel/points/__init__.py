"""Point clouds: their model, their files, and what is made of them."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.points import restated as restated

__getattr__ = on_demand(__name__)
