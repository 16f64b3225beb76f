"""Results: one scaffold for one input and one result, writing, receipts as typed facts, records of runs."""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.results import tables as tables

__getattr__ = on_demand(__name__)  # of tables, whose geometries load slowly
