"""Verbs on features: what `convert`, `clip`, `reproject`, `mosaic` and `describe` do for them."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.verbs.features import opening as opening
    from zembrel.verbs.features import writing as writing

__getattr__ = on_demand(__name__)
