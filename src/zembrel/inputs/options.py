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

PlacesFile = Annotated[
    str | None, OptionText("Feature file with named places, for --within place:NAME.", "FILE")
]
ZUnit = Annotated[str | None, OptionText("Unit of heights in the result: m, ft or usft.", "UNIT")]
FromZUnit = Annotated[
    str | None, OptionText("Unit of heights in inputs whose bands and CRS declare none.", "UNIT")
]


@dataclass(frozen=True)
class Inputs:
    """What to read, and what to believe about it."""

    inputs: tuple[str, ...] = ()
    rasters: tuple[Raster, ...] = ()  # that are open already, from Python
    names: tuple[str, ...] = ()  # of these
    inputs_from: Annotated[
        str | None, OptionText("Read input paths from a text file, one per line; - reads stdin.", "LIST")
    ] = None
    layer: Annotated[
        str | None, OptionText("Layer of a file with several layers. Give more as A,B or '*'.", "NAME")
    ] = None
    from_crs: Annotated[
        str | None, OptionText("CRS of inputs that declare none, or a layer in that CRS.", "CRS")
    ] = None
    force_crs: Annotated[bool, OptionText("Use --from-crs even where a file declares another CRS.")] = False
    crs_of_others: bool = (
        False  # whether --from-crs is for another file of the call, if this one says its own
    )
    from_nodata: Annotated[
        float | None, OptionText("Nodata value for inputs that do not declare one.", "VALUE")
    ] = None
    from_layout: Annotated[
        str | None,
        OptionText(
            "Layout of raw inputs: columns=1025,rows=1025,type=uint16,order=little,first=north.", "LAYOUT"
        ),
    ] = None
    offline: Annotated[bool, OptionText("Use cached data only; make no network requests.")] = False
    trust_inputs: Annotated[bool, OptionText("Lift the limits on the unpacked size of inputs.")] = False
    bands: Annotated[
        str | None,
        OptionText(
            'Bands to use, by number (from 1), name or pattern, e.g. 4,3,2 or "B*".', "LIST", short="-b"
        ),
    ] = None
    condition: Annotated[
        str | None,
        OptionText(
            'Use only features or points that match, e.g. "depth > 3 and kind == \'path\'" or "class == 2".',
            "CONDITION",
            flag="--where",
        ),
    ] = None
    fields: Annotated[
        str | None,
        OptionText("Fields to keep, in this order. Also for the values of point text files.", "LIST"),
    ] = None
    repair: Annotated[bool, OptionText("Repair invalid geometries.")] = False
    skip_invalid: Annotated[bool, OptionText("Skip invalid geometries.")] = False
    classes: Annotated[
        str | None, OptionText("Use only points of these classes, e.g. 2,9 or 3-5.", "LIST")
    ] = None
    returns: Annotated[
        str | None,
        OptionText(
            "Use only these returns: first, last, single, intermediate, or numbers such as 1,2.", "LIST"
        ),
    ] = None
    columns: Annotated[
        str | None,
        OptionText(
            "Columns of a point text file, read or written, e.g. x,y,z,intensity; - skips a column.", "LIST"
        ),
    ] = None
    salvage: Annotated[bool, OptionText("Recover the readable points of a damaged file.")] = False
    resolution: Annotated[
        str | None, OptionText("Point spacing to read from a cloud-optimized file, e.g. 2m.", "LENGTH")
    ] = None
    trim_collar: Annotated[bool, OptionText("Remove single-colour borders around photos.")] = False
    collar_tolerance: Annotated[
        int | None,
        OptionText("Largest difference between border values and the border colour. Default: detected.", "N"),
    ] = None
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Where:
    """Where and how fine the result is."""

    onto: Annotated[str | None, OptionText("Use the grid of this frame file or raster.", "FRAME")] = None
    crs: Annotated[
        str | None,
        OptionText(
            "CRS of the result: EPSG:32626, a registry name, WKT, or a .prj or .wkt file.", "CRS", short="-c"
        ),
    ] = None
    cell: Annotated[
        str | None,
        OptionText(
            "Cell size with a unit, e.g. 2m, 1ft or 1arcsec. Without a unit: CRS units. 2m/3m sets x and y.",
            "LENGTH",
            short="-s",
        ),
    ] = None
    longest: Annotated[
        int | None, OptionText("Number of cells along the longer side, instead of a cell size.", "N")
    ] = None
    within: Annotated[
        str | None,
        OptionText(
            "Area to keep: W,S,E,N[@CRS], square:X,Y,REACH, circle:X,Y,REACH, place:NAME, "
            "degree:N46W024, or a file.",
            "AREA",
            short="-w",
        ),
    ] = None
    within_where: Annotated[
        str | None,
        OptionText("Use only matching features of the area file, e.g. \"kind == 'wood'\".", "CONDITION"),
    ] = None
    reach: Annotated[str | None, OptionText("Radius around a place, e.g. 1.5mi.", "LENGTH")] = None
    mask: Annotated[bool, OptionText("Also blank cells outside the outline of the area.")] = False
    places: PlacesFile = None
    strict_crs: Annotated[
        bool, OptionText("Fail if no transformation between two datums or height systems is known.")
    ] = False
    shift_grid: Annotated[
        str | None, OptionText("NTv2 grid file (.gsb) for the shift between two datums.", "FILE")
    ] = None
    height_grid: Annotated[
        str | None,
        OptionText("Geoid model (a raster) for conversion between ellipsoidal and other heights.", "FILE"),
    ] = None
    epoch: Annotated[
        float | None,
        OptionText("Epoch of the coordinates for time-dependent shifts, e.g. 2020.5.", "YEAR"),
    ] = None
    z_unit: ZUnit = None
    from_z_unit: FromZUnit = None
    average_codes: Annotated[bool, OptionText("Allow averaging of values that look like class codes.")] = (
        False
    )
    named: Frame | None = None  # the frame that the name of the result says
    known: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)  # what phrases mean


@dataclass(frozen=True)
class Output:
    """What to write, and within which limits."""

    out: Annotated[
        str | None, OptionText("Path of the result. A path that ends in / is a folder.", "PATH", short="-o")
    ] = None
    format: Annotated[
        str | None, OptionText("Format of the result. Default: from the file name.", "NAME")
    ] = None
    type: Annotated[str | None, OptionText("Cell type of the result: uint8 ... float64.", "TYPE")] = None
    rounded: Annotated[bool, OptionText("With --type: round fractions.", flag="--round")] = False
    clamp: Annotated[bool, OptionText("With --type: clamp values to the range of the type, and round.")] = (
        False
    )
    nodata: Annotated[
        str | None, OptionText("Nodata value of the result; `none` declares none.", "VALUE")
    ] = None
    flatten: Annotated[
        str | None, OptionText("Blend transparent cells with this colour: white or '#rrggbb'.", "COLOUR")
    ] = None
    stored: Annotated[bool, OptionText("Write stored numbers unchanged, without scale and offset.")] = False
    compress: Annotated[
        str | None, OptionText("Compression and level: deflate, zstd:15, lzw or none.", "NAME[:LEVEL]")
    ] = None
    settings: Annotated[
        tuple[str, ...],
        OptionText(
            "Format setting; `zembrel formats NAME` lists them. Repeatable.", "KEY=VALUE", flag="--set"
        ),
    ] = ()
    world_file: Annotated[
        bool | None,
        OptionText(
            "Write a world file and a .prj file next to the result.", flag="--world-file/--no-world-file"
        ),
    ] = None
    provenance: Annotated[bool, OptionText("Also write the processing history to NAME.provenance.json.")] = (
        False
    )
    replace: Annotated[bool, OptionText("Overwrite existing results.")] = False
    into: Annotated[
        str | None,
        OptionText(
            "Write features as this layer of an existing GeoPackage, and keep its other layers.", "NAME"
        ),
    ] = None
    dry_run: Annotated[bool, OptionText("Show the plan without running it.")] = False
    ceiling: Annotated[
        str | None, OptionText("Refuse results larger than this. Default: 20 GB.", "BYTES")
    ] = None
    memory: Annotated[str | None, OptionText("Memory for cached blocks. Default: 256 MB.", "BYTES")] = None
    workers: Annotated[int, OptionText("Number of threads. Default: one per processor.", "N")] = 0
    cluster: Annotated[
        str | None,
        OptionText("Run on a Dask cluster at tcp://HOST:PORT, or in local:N processes.", "ADDRESS"),
    ] = None  # its address; `running.performed` opens it
    keep_going: Annotated[bool, OptionText("Continue after an input fails; exit code 7.")] = False
    keep_empty: Annotated[bool, OptionText("Write results without any data too; exit code 7.")] = False
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
