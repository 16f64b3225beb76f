"""Options that mean the same for every verb, as plain values. The command line fills these in."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zembrel.engine.executor import Executor
from zembrel.engine.limits import DEFAULT_MEMORY, Limits
from zembrel.engine.plan import DEFAULT_CEILING
from zembrel.errors import UsageError
from zembrel.formats import is_store
from zembrel.grid.frame import Frame
from zembrel.measure import parse_bytes
from zembrel.progress import Tick, no_tick
from zembrel.raster.model import Raster


@dataclass(frozen=True)
class Inputs:
    """What to read, and what to believe about it."""

    inputs: tuple[str, ...] = ()
    rasters: tuple[Raster, ...] = ()  # that are open already, from Python
    names: tuple[str, ...] = ()  # of these
    inputs_from: str | None = None
    layer: str | None = None
    from_crs: str | None = None
    force_crs: bool = False
    crs_of_others: bool = (
        False  # whether --from-crs is for another file of the call, if this one says its own
    )
    from_nodata: float | None = None
    from_layout: str | None = None
    offline: bool = False
    trust_inputs: bool = False
    bands: str | None = None
    condition: str | None = None
    fields: str | None = None
    repair: bool = False
    skip_invalid: bool = False
    classes: str | None = None
    returns: str | None = None
    columns: str | None = None
    salvage: bool = False
    resolution: str | None = None
    trim_collar: bool = False
    collar_tolerance: int | None = None
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Where:
    """Where and how fine the result is."""

    onto: str | None = None
    crs: str | None = None
    cell: str | None = None
    longest: int | None = None
    within: str | None = None
    within_where: str | None = None
    reach: str | None = None
    mask: bool = False
    places: str | None = None
    strict_crs: bool = False
    shift_grid: str | None = None
    height_grid: str | None = None
    epoch: float | None = None
    z_unit: str | None = None
    from_z_unit: str | None = None
    average_codes: bool = False
    named: Frame | None = None  # the frame that the name of the result says
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Output:
    """What to write, and within which limits."""

    out: str | None = None
    format: str | None = None
    type: str | None = None
    rounded: bool = False
    clamp: bool = False
    nodata: str | None = None
    flatten: str | None = None
    stored: bool = False
    compress: str | None = None
    settings: tuple[str, ...] = ()
    world_file: bool | None = None
    provenance: bool = False
    replace: bool = False
    into: str | None = None
    dry_run: bool = False
    ceiling: str | None = None
    memory: str | None = None
    workers: int = 0
    cluster: str | None = None  # its address; `running.performed` opens it
    keep_going: bool = False
    keep_empty: bool = False
    command: str = "zembrel"  # as typed, for refusals that name what would go on
    tick: Tick = no_tick
    executor: Executor | None = None  # where work is done, if not on threads of this process
    as_facts: bool = False  # whether data that would be printed belong into the facts of the receipt
    receiver: Callable[[Raster], None] | None = None  # takes rasters that are made, instead of a file
    started: float = field(default_factory=time.perf_counter, compare=False)

    @property
    def seconds(self) -> float:
        """Seconds since the verb was asked for."""
        return time.perf_counter() - self.started

    @property
    def path(self) -> Path:
        """Where to. Raises UsageError if nobody said."""
        if not self.out:
            raise UsageError(
                "there is no place for the result", "nothing is written unasked", "add --out PATH"
            )
        return Path(self.out)

    def on(self, executor: Executor) -> Output:
        """The same with work done by `executor`."""
        return replace(self, executor=executor)

    @property
    def to_folder(self) -> bool:
        """Whether results go into a folder."""
        return str(self.out).endswith("/") or (self.path.is_dir() and not is_store(self.path))

    @property
    def writes(self) -> bool:
        """Whether a file is to be made at all."""
        return bool(self.out) and not self.dry_run and self.receiver is None

    @property
    def limits(self) -> Limits:
        if self.workers < 0:
            raise UsageError(
                f"{self.workers} workers", "at least one has to work", "leave --workers out for all cores"
            )
        memory = parse_bytes(self.memory) if self.memory else DEFAULT_MEMORY
        return Limits(memory, self.workers, self.tick, self.executor)

    @property
    def ceiling_bytes(self) -> int:
        return parse_bytes(self.ceiling) if self.ceiling else DEFAULT_CEILING

    @property
    def format_settings(self) -> dict[str, str]:
        """--set and --compress as one mapping. Raises UsageError for text without `=`."""
        chosen: dict[str, str] = {}
        for text in self.settings:
            key, equals, value = text.partition("=")
            if not equals or key in chosen:
                raise UsageError(f"--set {text}", "KEY=VALUE is needed, each key once", "see zembrel formats")
            chosen[key] = value
        if self.compress:
            chosen["compress"] = self.compress
        return chosen
