"""What classes are made by: breaks, conditions in their order, or a table of codes."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, NamedTuple

import numpy as np

from zembrel.algebra.codetable import Recoding
from zembrel.algebra.operands import Lets
from zembrel.draw.ramps import check_ramp, colour_map, default_ramp
from zembrel.engine.limits import Limits
from zembrel.errors import EmptyInputError, InputError, RefusedError, UsageError, nearest_name
from zembrel.expression.operand import whole_type
from zembrel.facts import Fact, fact
from zembrel.formats.legendfile import read_legend
from zembrel.measure import show_number
from zembrel.optiontext import OptionText
from zembrel.passes.survey import NO_INFINITE, quantiles, seen
from zembrel.raster.breaks import WAYS, breaks
from zembrel.raster.legend import Colour, Legend, LegendEntry, shade
from zembrel.raster.model import Band, Raster
from zembrel.raster.survey import ClassCounts, Statistics
from zembrel.raster.views.classed import Binned, Recoded

_MOST, _USUAL = 255, 5  # classes of values
_SAMPLES = 2_000  # of values that natural breaks are sought among
VOID, KEEP = "void", "keep"


@dataclass(frozen=True)
class Classing:
    """Options for one way to make classes: breaks, classes, rules, codes, or above and below."""

    breaks: Annotated[str | None, OptionText("Class boundaries, e.g. 100,200,400.", "LIST")] = None
    classes: Annotated[
        str | None,
        OptionText("Method and number of classes: equal, quantile or natural, e.g. natural:5.", "WAY:N"),
    ] = None
    rule: Annotated[
        str | Sequence[str],
        OptionText(
            "Define a class by a condition. Repeatable; the first condition that holds decides.",
            "'[CODE] NAME: CONDITION'",
        ),
    ] = ()
    otherwise: Annotated[
        str | None,
        OptionText(
            "Class for cells that no rule covers. With --codes, `keep` keeps their code. "
            "Default: void (nodata).",
            "[CODE] NAME",
        ),
    ] = None
    codes: Annotated[
        str | None, OptionText("CSV table that maps old codes to new ones: old,new,name,colour.", "CSV")
    ] = None
    above: Annotated[float | None, OptionText("Write 1 above this value and 0 elsewhere.", "VALUE")] = None
    below: Annotated[float | None, OptionText("Write 1 below this value and 0 elsewhere.", "VALUE")] = None
    legend: Annotated[str | None, OptionText("Legend file for the new codes.", "FILE")] = None
    ramp: Annotated[str | None, OptionText("Colour ramp for classes of values.", "NAME")] = None
    min_cells: Annotated[int, OptionText("Merge smaller regions into their largest neighbour.", "N")] = 0
    diagonal: Annotated[bool, OptionText("With --min-cells: also join cells at corners.")] = False
    let: Annotated[Lets, OptionText("Name a layer for use in rules. Repeatable.", "NAME=FILE[:BAND]")] = ()
    method: Annotated[
        str, OptionText("Resampling method for layers that are not on the frame of the first.", "NAME")
    ] = "auto"

    def check(self) -> None:
        """Raise UsageError unless there is one way, and options that it heeds."""
        ways = {
            "--breaks": self.breaks, "--classes": self.classes, "--rule": self.rule, "--codes": self.codes,
            "--above or --below": (self.above, self.below) != (None, None),
        }  # fmt: skip
        given = [name for name, value in ways.items() if value]
        if len(given) != 1:
            raise UsageError(
                "nothing says which classes" if not given else f"{given[0]} excludes {given[1]}",
                f"classes are made by one of {', '.join(ways)}",
                "add one" if not given else "leave one out",
            )
        for option, value, heeded in (
            ("--otherwise", self.otherwise, self.rule or self.codes), ("--let", self.let, self.rule),
            ("--ramp", self.ramp, self.breaks or self.classes), ("--diagonal", self.diagonal, self.min_cells),
        ):  # fmt: skip
            if value and not heeded:
                raise UsageError(
                    f"{option} says nothing here", f"{given[0]} does not heed it", "leave it out"
                )
        check_ramp(self.ramp)


class Made(NamedTuple):
    """One band of codes, and what was chosen and found on the way."""

    view: Raster
    chose: tuple[Fact, ...]
    checks: tuple[Fact, ...] = ()


def parse_breaks(text: str) -> list[float]:
    """Numbers that rise. Raises UsageError."""
    try:
        made = [float(part) for part in text.split(",")]
    except ValueError as exc:
        raise UsageError(f"--breaks {text}", "numbers are needed", "write --breaks 100,200,400") from exc
    if sorted(set(made)) != made or not np.isfinite(made).all() or len(made) >= _MOST:
        raise UsageError(
            f"--breaks {text}", f"they rise, and {_MOST - 1} at most count", "write --breaks 100,200"
        )
    return made


def found_breaks(rasters: Sequence[Raster], text: str, limits: Limits) -> list[float]:
    """The breaks of `WAY:N` classes, the same for all rasters.

    Raises UsageError for a way that is none, InputError where there is no value.
    """
    way, _, count = text.partition(":")
    if way not in WAYS:
        raise UsageError(f"--classes {text}", f"classes are {', '.join(WAYS)}", nearest_name(way, WAYS))
    if count and not (count.isdigit() and 2 <= int(count) <= _MOST):
        raise UsageError(f"--classes {text}", f"there are 2 to {_MOST}", f"write --classes {way}:5")
    known, classes = Statistics(), int(count or _USUAL)
    for raster in rasters:
        seen(raster, known, limits)
    tally = known.tallies[0]
    if not tally.cells:
        raise EmptyInputError("there are no values to divide", "all cells are void", "check the inputs")
    if not (math.isfinite(tally.low) and math.isfinite(tally.high)):
        raise RefusedError("some values are infinite", "classes have two ends", NO_INFINITE)
    if tally.low == tally.high:
        raise InputError(
            "there is nothing to divide",
            f"every cell is {show_number(tally.low)}",
            "say --breaks, or --above",
        )
    if way == "equal":
        return [float(v) for v in np.linspace(tally.low, tally.high, classes + 1)[1:-1]]
    if way == "quantile":
        found = quantiles(rasters, [n / classes for n in range(1, classes)], limits)
        whole = all(raster.bands[0].dtype.kind in "iu" for raster in rasters)
        found = [float(math.ceil(end)) for end in found] if whole else found
        above = tally.low + 1 if whole else math.nextafter(tally.low, math.inf)
        return sorted({max(end, above) for end in found})  # under the lowest value there is no class
    samples = np.unique(quantiles(rasters, np.linspace(0, 1, _SAMPLES).tolist(), limits))
    ends = breaks(samples, way, classes)[1:-1]
    after = samples[np.minimum(np.searchsorted(samples, ends, side="right"), samples.size - 1)]
    return [float(v) for v in (ends + after) / 2]


def fewer_classes(classing: Classing, edges: Sequence[float]) -> list[Fact]:
    """A word about classes that were asked for and that values do not make."""
    asked = int((classing.classes or "").partition(":")[2] or _USUAL)
    if not classing.classes or len(edges) + 1 >= asked:
        return []
    return [fact("fewer_classes", made=len(edges) + 1, asked=asked)]


def binned(raster: Raster, edges: Sequence[float], classing: Classing) -> Made:
    """Classes of values from 1, each with its lower end."""
    band, codes = raster.bands[0], range(1, len(edges) + 2)
    unit = f" {band.unit}" if band.unit else ""
    shown = _shown(edges)
    names = [
        f"under {shown[0]}{unit}",
        *(f"{a} to {b}{unit}" for a, b in itertools.pairwise(shown)),
    ]
    names.append(f"{shown[-1]}{unit} and over")
    ramp = classing.ramp or default_ramp(band)
    colours = [_bytes(colour_map(ramp)(n / max(len(edges), 1))) for n in range(len(names))]
    made = band_of_codes(band.name, codes, list(zip(codes, names, colours, strict=True)), classing)
    view = Binned(raster, made, np.array(edges, np.float64), np.array(codes))
    return Made(
        view,
        (fact("breaks", classes=len(names), breaks=tuple(shown), unit=band.unit), fact("ramp", ramp=ramp)),
    )


def thresholded(raster: Raster, classing: Classing) -> Made:
    """1 above, below or between, 0 elsewhere. Raises UsageError for ends that nothing lies between."""
    above, below, band = classing.above, classing.below, raster.bands[0]
    unit = f" {band.unit}" if band.unit else ""
    if not all(math.isfinite(end) for end in (above, below) if end is not None):
        raise UsageError("--above or --below is no number", "values are held against it", "write --above 30")
    if above is not None and below is not None and above >= below:
        raise UsageError(f"--above {above:g} --below {below:g}", "nothing lies between", "exchange them")
    edges = [] if above is None else [math.nextafter(above, math.inf)]
    codes = ([] if above is None else [0]) + [1]
    edges += [] if below is None else [below]
    codes += [] if below is None else [0]
    words = [
        *([] if above is None else [f"above {above:g}"]),
        *([] if below is None else [f"below {below:g}"]),
    ]
    name = f"{' and '.join(words)}{unit}"
    entries = [(0, f"not {name}", (225, 225, 220)), (1, name, (30, 90, 160))]
    view = Binned(
        raster, band_of_codes(band.name, (0, 1), entries, classing), np.array(edges), np.array(codes)
    )
    return Made(view, (fact("threshold", name=name),))


def recoded(raster: Raster, table: Sequence[Recoding], classing: Classing, limits: Limits) -> Made:
    """New codes for old ones. Raises InputError for cells that are no codes, RefusedError for a code that is
    kept and is a new one too."""
    band = raster.bands[0]
    if band.dtype.kind not in "iu":
        raise InputError(
            f"a code table for {band.type} cells",
            "codes are whole numbers",
            "use --breaks, or convert --round first",
        )
    counts = seen(raster, ClassCounts(), limits).counts
    odd = [code for code in sorted(counts) if not any(line.low <= code <= line.high for line in table)]
    keep = classing.otherwise == KEEP
    if classing.otherwise not in (None, KEEP, VOID):
        raise UsageError(
            f"--otherwise {classing.otherwise}", "of codes the rest is kept or void", f"write {KEEP}"
        )
    met = sorted({line.new for line in table} & set(odd)) if keep else []
    if met:
        raise RefusedError(
            f"code {met[0]} is kept, and is a new one too",
            f"{classing.codes} does not list it, so two classes would become one",
            f"add a line {met[0]},{met[0]} if that is meant, or another new code",
        )
    codes = sorted({line.new for line in table} | (set(odd) if keep else set()))
    made = band_of_codes(band.name, codes, _named(table, odd if keep else (), band), classing)
    lows, highs, new = np.array([line[:3] for line in table], np.int64).T
    view = Recoded(raster, made, lows, highs, new, keep)
    cells = sum(counts[code] for code in odd)
    checks = (
        (fact("codes_not_listed", cells=cells, codes=tuple(odd[:8]), more=len(odd) > 8, kept=keep),)
        if odd
        else ()
    )
    return Made(
        view,
        (fact("code_table", lines=len(table), table=classing.codes),),
        checks or (fact("codes_all_listed"),),
    )


def _named(
    table: Sequence[Recoding], kept: Iterable[int], band: Band
) -> list[tuple[int, str, Colour | None]]:
    """Codes with names and colours: of the table, else of the one old class that a code comes from."""
    old = {entry.code: entry for entry in band.legend.entries} if band.legend else {}
    made: dict[int, tuple[str, Colour | None]] = {}
    for line in table:
        own = [entry for code, entry in old.items() if line.low <= code <= line.high]
        alone = sum(other.new == line.new for other in table) == 1 and len(own) == 1
        before = made.get(line.new, ("", None))
        name = line.name or before[0] or (own[0].name if alone else "")
        made[line.new] = name, line.colour or before[1] or (own[0].colour if alone else None)
    for code in kept:
        if code in old:
            made.setdefault(code, (old[code].name, old[code].colour))
    return [(code, *facts) for code, facts in sorted(made.items())]


def band_of_codes(
    name: str, codes: Iterable[int], entries: Sequence[tuple[int, str, Colour | None]], classing: Classing
) -> Band:
    """The band of codes, with names and colours."""
    held = sorted(codes)
    named = [
        LegendEntry(code, words, colour or shade(n))
        for n, (code, words, colour) in enumerate(entries)
        if code >= 0
    ]
    legend = Legend.of(named)
    if classing.legend is not None:
        own = {entry.code: entry for entry in read_legend(Path(classing.legend)).entries}
        legend = Legend.of([own.get(entry.code, entry) for entry in named])
    nodata = None if 0 in held else 0
    return Band(name, whole_type(min(*held, 0), max(held)), nodata=nodata, legend=legend)


def _bytes(colour: Sequence[float]) -> Colour:
    red, green, blue = (round(255 * part) for part in colour[:3])
    return red, green, blue


def _shown(edges: Sequence[float]) -> list[str]:
    """Breaks in as few digits as tell them apart, four at least."""
    for digits in range(4, 17):
        shown = [show_number(float(f"{edge:.{digits}g}")) for edge in edges]
        if len(set(shown)) == len(shown):
            break
    return shown
