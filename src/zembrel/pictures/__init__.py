"""Pictures and pages of verbs: their options, figures beside results, legends of features."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.pictures import comparefigures as comparefigures
    from zembrel.pictures import describepage as describepage

__getattr__ = on_demand(__name__)  # of what draws, since drawing loads slowly
