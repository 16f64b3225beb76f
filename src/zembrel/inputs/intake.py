"""The one intake: inputs are found and known for what they are once, whatever the verb."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from zembrel.engine.commit import check_free
from zembrel.errors import InputError, UsageError
from zembrel.features.files import holds_features
from zembrel.features.files.catalogue import is_features
from zembrel.formats import readable
from zembrel.formats.origin import Origin
from zembrel.inputs.finding import Sort, find
from zembrel.inputs.options import Inputs, Output
from zembrel.points.files import holds_points
from zembrel.points.files.catalogue import format_of, surely_points
from zembrel.verbtable.record import FEATURES, POINTS, RASTERS

_SORTS: dict[str, Sort] = {RASTERS: readable, FEATURES: is_features, POINTS: surely_points}
_OF_POINTS = ("classes", "returns", "columns", "salvage", "resolution")


@dataclass(frozen=True)
class Dataset:
    """An input that was found: of which kind it is, and where it comes from."""

    kind: str
    origin: Origin


@dataclass(frozen=True)
class Given:
    """What a verb is given: datasets of one kind, and how the options say they are to be understood."""

    kind: str
    origins: tuple[Origin, ...]
    options: Inputs

    @property
    def paths(self) -> tuple[Path, ...]:
        """The names they are known by; rasters that are open already have names of their own."""
        names = self.options.names or [f"raster{n}" for n, _ in enumerate(self.options.rasters, 1)]
        held = (Path(f"{name}.tif") for name in names)
        return (*held, *(origin.name for origin in self.origins))


def take(
    options: Inputs, output: Output, kinds: Sequence[str] = (RASTERS,), *, stands: bool = False
) -> Given:
    """The inputs of a verb that takes these kinds.

    stands: whether a result that stands already is kept. Raises UsageError for inputs of several kinds, or
    options of another kind; InputError for what is not of the one kind that is taken; RefusedError for a
    result that may not be replaced.
    """
    out = out_of(output, stands=stands)
    if tuple(kinds) == (RASTERS,):
        return Given(RASTERS, tuple(find(options, out, readable)), options)
    found = _identified(options, out, kinds)
    odd = next((dataset for dataset in found if dataset.kind != POINTS), None)
    if odd is not None and tuple(kinds) == (POINTS,):
        raise InputError(f"{odd.origin} holds no points", "it is of no point format", "see zembrel formats")
    return of_one_kind(found, options)


def of_one_kind(found: Sequence[Dataset], options: Inputs) -> Given:
    """What was found, if it is all of one kind. Raises UsageError if not, or for options of another kind."""
    kinds = [kind for kind in (POINTS, FEATURES, RASTERS) if any(d.kind == kind for d in found)] or [RASTERS]
    if len(kinds) > 1:
        one, other = (next(d.origin for d in found if d.kind == kind) for kind in kinds[:2])
        raise UsageError(
            f"{one} holds {kinds[0]}, and {other} does not",
            "they do not go together",
            "give them in two runs",
        )
    given = Given(kinds[0], tuple(dataset.origin for dataset in found), options)
    _check_options(given)
    return given


def out_of(output: Output, *, stands: bool = False) -> Path | None:
    """Where the result goes, if it goes anywhere. Raises RefusedError if it may not be replaced."""
    if output.writes and output.into is None and not output.to_folder and not stands:
        check_free(output.path, output.replace)
    return Path(output.out) if output.out else None


def identified(options: Inputs, output: Output, kinds: Sequence[str]) -> list[Dataset]:
    """The inputs, each with its kind; what is neither points nor features is taken for a raster.

    Raises RefusedError for a result that may not be replaced.
    """
    return _identified(options, out_of(output), kinds)


def _identified(options: Inputs, out: Path | None, kinds: Sequence[str]) -> list[Dataset]:
    sort = _SORTS[kinds[0]] if len(kinds) == 1 else None
    kind_of = _kind_of(options, out, kinds)
    return [Dataset(kind_of(origin), origin) for origin in find(options, out, sort)]


def _kind_of(options: Inputs, out: Path | None, kinds: Sequence[str]) -> Callable[[Origin], str]:
    points_only = tuple(kinds) == (POINTS,) or (out is not None and surely_points(out))
    tables = points_only or options.columns is not None
    shapes_only = out is not None and is_features(out) and not readable(out)

    def kind(origin: Origin) -> str:
        file = origin.file
        if POINTS in kinds and (holds_points(file) or (tables and format_of(file) is not None)):
            return POINTS
        if FEATURES in kinds and ((shapes_only and is_features(file)) or holds_features(file)):
            return FEATURES
        return RASTERS

    return kind


def _check_options(given: Given) -> None:
    """Raise UsageError for options that mean nothing for what was found."""
    options = given.options
    what = given.origins[0] if given.origins else "a raster in memory"
    asked = [name for name in _OF_POINTS if getattr(options, name)]
    if asked and given.kind != POINTS:
        raise UsageError(f"{what} holds no points", f"--{asked[0]} is for points", "leave it out")
    if given.kind == RASTERS and (options.condition or options.fields):
        raise UsageError(
            f"{what} holds no features", "--where and --fields pick among them", "leave them out"
        )
