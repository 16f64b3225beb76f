"""Options that mean the same for every verb, as plain values. The command line fills these in."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Annotated, Any

from zembrel.engine.executor import Executor
from zembrel.engine.limits import DEFAULT_MEMORY, Limits
from zembrel.engine.plan import DEFAULT_CEILING
from zembrel.errors import UsageError
from zembrel.formats import is_store
from zembrel.grid.frame import Frame
from zembrel.measure import parse_bytes
from zembrel.optiontext import OptionText
from zembrel.progress import Tick, no_tick
from zembrel.raster.model import Raster

PlacesFile = Annotated[str | None, OptionText("Features with names, for place:NAME.", "FILE")]
ZUnit = Annotated[str | None, OptionText("Heights of the result in this unit: m, ft, usft.", "UNIT")]
FromZUnit = Annotated[str | None, OptionText("Unit of heights where neither bands nor CRS say.", "UNIT")]


@dataclass(frozen=True)
class Inputs:
    """What to read, and what to believe about it."""

    inputs: tuple[str, ...] = ()
    rasters: tuple[Raster, ...] = ()  # that are open already, from Python
    names: tuple[str, ...] = ()  # of these
    inputs_from: Annotated[str | None, OptionText("A list of inputs, one a line; - for stdin.", "LIST")] = (
        None
    )
    layer: Annotated[
        str | None, OptionText("A layer of a file that holds several; or more: A,B or '*'.", "NAME")
    ] = None
    from_crs: Annotated[
        str | None, OptionText("CRS of inputs that do not say; or a layer that is in it.", "CRS")
    ] = None
    force_crs: Annotated[bool, OptionText("Let --from-crs overrule what files say.")] = False
    crs_of_others: bool = (
        False  # whether --from-crs is for another file of the call, if this one says its own
    )
    from_nodata: Annotated[float | None, OptionText("Nodata value of inputs that do not say.", "VALUE")] = (
        None
    )
    from_layout: Annotated[
        str | None,
        OptionText("Of raw inputs: columns=1025,rows=1025,type=uint16,order=little,first=north.", "LAYOUT"),
    ] = None
    offline: Annotated[bool, OptionText("Ask nothing of the web.")] = False
    trust_inputs: Annotated[bool, OptionText("No limits on what inputs unpack to and hold.")] = False
    bands: Annotated[
        str | None,
        OptionText('Bands by number from 1, name or pattern: 4,3,2 or "B*".', "LIST", "-b", "--bands"),
    ] = None
    condition: Annotated[
        str | None,
        OptionText(
            'Which features: "depth > 3 and kind == \'path\'"; or points: "class == 2".',
            "CONDITION",
            "--where",
        ),
    ] = None
    fields: Annotated[
        str | None,
        OptionText("Which fields of features, or values of a text of points, in this order.", "LIST"),
    ] = None
    repair: Annotated[bool, OptionText("Mend faulty geometries.")] = False
    skip_invalid: Annotated[bool, OptionText("Leave faulty ones out.")] = False
    classes: Annotated[
        str | None, OptionText("Of points, only those of these classes: 2,9 or 3-5.", "LIST")
    ] = None
    returns: Annotated[
        str | None, OptionText("Of points, only first, last, single, intermediate, or numbers: 1,2.", "LIST")
    ] = None
    columns: Annotated[
        str | None,
        OptionText(
            "Columns of a text of points, read or written: x,y,z,intensity; - leaves one out.", "LIST"
        ),
    ] = None
    salvage: Annotated[bool, OptionText("Of a broken point file, take the points that are there.")] = False
    resolution: Annotated[
        str | None, OptionText("Of a cloud-optimized file, only as fine as this: 2m.", "LENGTH")
    ] = None
    trim_collar: Annotated[bool, OptionText("Drop borders of one colour around photos.")] = False
    collar_tolerance: Annotated[
        int | None,
        OptionText(
            "How far values of a collar may differ from its colour; found by itself if not said.", "N"
        ),
    ] = None
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Where:
    """Where and how fine the result is."""

    onto: Annotated[
        str | None, OptionText("Land exactly on the cells of this frame file or raster.", "FRAME")
    ] = None
    crs: Annotated[
        str | None,
        OptionText(
            "CRS of the result: EPSG:32626, a registry name, a .prj or .wkt file, WKT.", "CRS", "-c", "--crs"
        ),
    ] = None
    cell: Annotated[
        str | None,
        OptionText(
            "Cell size with a unit: 2m, 1ft, 1arcsec; bare is CRS units; 2m/3m is x/y.",
            "LENGTH",
            "-s",
            "--cell",
        ),
    ] = None
    longest: Annotated[
        int | None, OptionText("So many cells along the longer side, instead of a cell size.", "N")
    ] = None
    within: Annotated[
        str | None,
        OptionText(
            "Area to keep: W,S,E,N[@CRS], square:X,Y,REACH, circle:X,Y,REACH, place:NAME, "
            "degree:N46W024, or a file.",
            "AREA",
            "-w",
            "--within",
        ),
    ] = None
    within_where: Annotated[
        str | None, OptionText("Which features of the area's file: \"kind == 'wood'\".", "CONDITION")
    ] = None
    reach: Annotated[str | None, OptionText("How far around a place: 1.5mi.", "LENGTH")] = None
    mask: Annotated[bool, OptionText("Also blank what lies outside the area's outline.")] = False
    places: PlacesFile = None
    strict_crs: Annotated[bool, OptionText("Refuse where no shift between datums or heights is known.")] = (
        False
    )
    shift_grid: Annotated[
        str | None, OptionText("Shift from one datum to another by this NTv2 file (.gsb).", "FILE")
    ] = None
    height_grid: Annotated[
        str | None,
        OptionText("Geoid heights, any grid: between heights above the ellipsoid and others.", "FILE"),
    ] = None
    epoch: Annotated[
        float | None,
        OptionText("Epoch of the coordinates, for shifts that change with time: 2020.5.", "YEAR"),
    ] = None
    z_unit: ZUnit = None
    from_z_unit: FromZUnit = None
    average_codes: Annotated[bool, OptionText("Let a method average what look like codes of classes.")] = (
        False
    )
    named: Frame | None = None  # the frame that the name of the result says
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Output:
    """What to write, and within which limits."""

    out: Annotated[
        str | None, OptionText("The result; a folder if it ends in / or is one.", "PATH", "-o", "--out")
    ] = None
    format: Annotated[str | None, OptionText("Format of the result, if its name does not say.", "NAME")] = (
        None
    )
    type: Annotated[str | None, OptionText("Cell type of the result: uint8 ... float64.", "TYPE")] = None
    rounded: Annotated[bool, OptionText("With --type: allow fractions to be rounded.", None, "--round")] = (
        False
    )
    clamp: Annotated[bool, OptionText("With --type: hold values at its ends, and round.")] = False
    nodata: Annotated[str | None, OptionText("Nodata value of the result; none for none.", "VALUE")] = None
    flatten: Annotated[
        str | None, OptionText("Blend transparent cells onto this colour: white, '#rrggbb'.", "COLOUR")
    ] = None
    stored: Annotated[
        bool, OptionText("Write stored numbers as they are, without their scale and offset.")
    ] = False
    compress: Annotated[
        str | None, OptionText("Compression and level: deflate, zstd:15, lzw, none.", "NAME[:LEVEL]")
    ] = None
    settings: Annotated[
        tuple[str, ...],
        OptionText("A setting of the format; zembrel formats NAME lists them.", "KEY=VALUE", "--set"),
    ] = ()
    world_file: Annotated[
        bool | None,
        OptionText("Write a world file and .prj beside the result.", None, "--world-file/--no-world-file"),
    ] = None
    provenance: Annotated[
        bool, OptionText("Also write how it came about beside the result, as NAME.provenance.json.")
    ] = False
    replace: Annotated[bool, OptionText("Allow existing results to be replaced.")] = False
    into: Annotated[
        str | None,
        OptionText(
            "Of features: a layer of this name in the GeoPackage --out, beside those that are there.", "NAME"
        ),
    ] = None
    dry_run: Annotated[bool, OptionText("Show the plan and stop.")] = False
    ceiling: Annotated[str | None, OptionText("Refuse results larger than this.  [20GB]", "BYTES")] = None
    memory: Annotated[str | None, OptionText("Budget for blocks.  [256MB]", "BYTES")] = None
    workers: Annotated[int, OptionText("Threads; one for each processor if not said.", "N")] = 0
    cluster: Annotated[
        str | None, OptionText("Work on a Dask cluster at tcp://HOST:PORT, or local:N processes.", "ADDRESS")
    ] = None  # its address; `running.performed` opens it
    keep_going: Annotated[bool, OptionText("With many inputs, finish the others; exit 7.")] = False
    keep_empty: Annotated[
        bool, OptionText("Also write results that have no valid cell or feature; exit 7.")
    ] = False
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
