"""Finding and opening what a verb is given."""

from __future__ import annotations

import glob
import re
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

from zembrel.errors import InputError, UsageError
from zembrel.features.files.table import is_features
from zembrel.formats import by_ranges, is_store, open_raster, plainraw, readable
from zembrel.formats.archives import is_archive, layer_of, members
from zembrel.formats.elsewhere import known, real
from zembrel.formats.web import at_address, is_address
from zembrel.geodesy.crs import CRS, UnresolvedCRS, label, same, vertical_of
from zembrel.points.files.table import surely_points
from zembrel.raster.model import HasRemarks, Raster, pick_bands
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.nodata import WithNodata, says_nodata
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.views.place import Reframed
from zembrel.reading import readings
from zembrel.verbs.options import Inputs
from zembrel.verbs.within import parse_crs_phrase

Kind = Callable[[Path], bool]


@dataclass(frozen=True)
class Layer:
    """An opened input."""

    path: Path
    raster: Raster
    remarks: tuple[str, ...] = ()  # of the reader, for the receipt


def open_layers(options: Inputs, out: Path | None = None) -> list[Layer]:
    """The inputs in their order, as the options say they are to be understood. Raises InputError."""
    found = [open_layer(path, options) for path in find_inputs(options, out, readable)]
    return [*given_layers(options), *found]


def given_layers(options: Inputs) -> list[Layer]:
    """The rasters that are open already, under names of their own."""
    return [
        Layer(Path(f"raster{n}.tif"), _understood(Path(f"raster {n}"), raster, options))
        for n, raster in enumerate(options.rasters, 1)
    ]


def only_layer(verb: str, options: Inputs, out: Path | None = None) -> Layer:
    """The one raster of one band that a verb takes. Raises UsageError for more."""
    layers = open_layers(options, out)
    if len(layers) != 1:
        raise UsageError(f"{verb} takes one raster, not {len(layers)}", "each has its own values", "name one")
    raster = colours_of(layers[0].raster)
    bands = len(raster.bands)
    if bands != 1:
        raise UsageError(f"{layers[0].path} has {bands} bands", f"{verb} takes one", "choose it with --bands")
    return replace(layers[0], raster=raster)


def check_resolved(layer: Layer) -> CRS:
    """The CRS of a layer. Raises InputError if it has none that is known."""
    crs = layer.raster.frame.crs
    if crs is None or isinstance(crs, UnresolvedCRS):
        raise InputError(
            f"{layer.path} has no known CRS", "features have a place on the Earth", "add --from-crs CRS"
        )
    return crs


def open_input(path: Path, options: Inputs) -> Raster:
    """One input, with its CRS, nodata and bands as the options say. Raises InputError."""
    return open_layer(path, options).raster


def open_layer(path: Path, options: Inputs) -> Layer:
    """The same, with what its reader has to say."""
    if options.from_layout:
        raster = plainraw.open_as(real(path), plainraw.parse_layout(options.from_layout))
    else:
        raster = _opened(path, options.layer)
    remarks = raster.remarks if isinstance(raster, HasRemarks) else ()
    if options.from_nodata is not None and says_nodata(raster):
        remarks = (*remarks, f"{path.name} declares its own nodata: --from-nodata is ignored for it")
    return Layer(path, _understood(path, raster, options), remarks)


def _opened(path: Path, layer: str | None) -> Raster:
    if not known(path):
        return open_raster(path, layer)
    try:
        return open_raster(path, layer_of(layer, path))
    except InputError as exc:  # that of a file elsewhere tells its own name
        raise InputError(exc.what.replace(str(real(path)), str(path)), exc.why, exc.remedy) from exc


def _understood(path: Path, raster: Raster, options: Inputs) -> Raster:
    """`raster` as the options say it is to be taken."""
    if options.from_crs:
        crs = parse_crs_phrase(options.from_crs)
        own = raster.frame.crs
        added = same(own, crs) and vertical_of(own) is None and vertical_of(crs) is not None
        if own is None or options.force_crs or added:
            raster = Reframed(raster, replace(raster.frame, crs=crs))
        elif not same(own, crs) or vertical_of(crs) not in (None, vertical_of(own)):
            raise InputError(
                f"{path} says it is in {label(own)}, not {label(crs)}",
                "--from-crs is for files that do not say",
                "leave --from-crs out, or add --force-crs to overrule the file",
            )
    if options.bands:
        raster = select_bands(raster, pick_bands(raster.bands, options.bands))
    if options.from_nodata is not None and not says_nodata(raster):
        raster = WithNodata(raster, options.from_nodata)
    return raster


def find_inputs(options: Inputs, out: Path | None = None, kind: Kind | None = None) -> list[Path]:
    """Paths of files, of what folders hold and of patterns, in the given order.

    kind: what is taken of a folder that holds any of it; else what it holds most of. Raises InputError for a
    path that is not there or a pattern that fits nothing; UsageError if nothing is given at all.
    """
    words = [*options.inputs, *_listed(options.inputs_from)]
    if not words and options.rasters:
        return []
    if not words:
        raise UsageError(
            "there is no input", "the verb has nothing to work on", "name files, folders or patterns"
        )
    found: list[Path] = []
    for word in words:
        found += _elsewhere(word, options) or _expand(word, out, kind)
    for path in found:
        readings.note(real(path))
    if out is not None and not out.is_dir():
        readings.refuse(out)
    return list(dict.fromkeys(found))


def _no_raster(path: Path) -> bool:
    return is_features(path) or surely_points(path)


def _elsewhere(word: str, options: Inputs) -> list[Path]:
    """Names of what an address or an archive holds; none for any other word."""
    if is_address(word):
        path = at_address(word, options.offline, by_ranges)
        return members(path, options.layer, readable, _no_raster) if is_archive(path) else [path]
    path = Path(word)
    inside = path.is_file() and is_archive(path)
    return members(path, options.layer, readable, _no_raster) if inside else []


def _listed(listing: str | None) -> list[str]:
    if listing is None:
        return []
    if listing == "-":
        return list(_from_stdin())
    try:
        return [
            line.strip()
            for line in readings.note(Path(listing)).read_text("utf-8").splitlines()
            if line.strip()
        ]
    except OSError as exc:
        raise InputError(
            f"{listing} cannot be read", exc.strerror or str(exc), "check --inputs-from"
        ) from exc


@cache
def _from_stdin() -> tuple[str, ...]:
    """The lines of the standard input, which can be read once."""
    return tuple(line.strip() for line in sys.stdin if line.strip())


def _expand(word: str, out: Path | None, kind: Kind | None) -> list[Path]:
    path = Path(word)
    if path.is_dir() and not is_store(path):
        held = [p for p in _natural(path.rglob("*")) if not _hidden(p, path)]
        kinds = [_of_kind(held, one) for one in _KINDS]
        inside = (_of_kind(held, kind) if kind is not None else []) or max(kinds, key=_weight)
        stores = [p for p in held if is_store(p)]
        whole = out.resolve() if out is not None else None
        held = [p for p in held if not any(store in p.parents for store in stores)]
        held = [p for p in held if whole is None or not _within(p, whole)]
        taken = set(inside)
        inside = [p for p in held if p in taken]
        readings.pass_over(p for p in held if p not in taken and any(one(p) for one in _KINDS))
        if not inside:
            raise InputError(
                f"folder {path} holds no raster, no features and no points",
                "nothing in it can be read",
                "see zembrel formats",
            )
        return inside
    if path.exists():
        return [path]
    if any(sign in word for sign in "*?["):
        matches = _natural(Path(match) for match in glob.glob(word, recursive=True))  # noqa: PTH207 Path.glob takes no absolute pattern
        matches = [match for match in matches if match.is_file() or is_store(match)]
        whole = out.resolve() if out is not None else None
        matches = [match for match in matches if whole is None or not _within(match, whole)]
        if matches:
            return matches
        raise InputError(f"nothing fits {word!r}", f"looked in {Path.cwd()}", "check the pattern")
    raise InputError(f"{word} does not exist", f"looked in {Path.cwd()}", "check the path")


def _of_kind(held: Sequence[Path], kind: Kind) -> list[Path]:
    """Those of a kind; a table counts where there is nothing else, since others tell of their neighbours."""
    found = [path for path in held if kind(path)]
    return [path for path in found if not path.name.lower().endswith(_TABLES)] or found


def _weight(paths: Sequence[Path]) -> tuple[bool, int]:
    return any(not path.name.lower().endswith(_TABLES) for path in paths), len(paths)


_TABLES = (".csv", ".tsv", ".txt", ".parquet")
_KINDS: tuple[Kind, ...] = (readable, is_features, surely_points)  # of equally many files the first counts


def _within(path: Path, whole: Path) -> bool:
    """Whether `path` is the result, whose resolved path is `whole`, or lies in its folder."""
    return whole == (here := path.resolve()) or whole in here.parents


def _hidden(path: Path, folder: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(folder).parts)


def _natural(paths: Iterable[Path]) -> list[Path]:
    """By name, with numbers in their own order: m2 before m10."""

    def key(path: Path) -> list[tuple[int, int | str]]:
        return [
            (0, int(part)) if part.isdigit() else (1, part) for part in re.split(r"(\d+)", str(path)) if part
        ]

    return sorted(paths, key=key)


def check_placed(layers: Sequence[Layer]) -> None:
    """Raise InputError if some layers have a CRS and others have not."""
    homeless = [layer for layer in layers if layer.raster.frame.crs is None]
    if not homeless or len(homeless) == len(layers):
        return
    known = next(layer.raster.frame.crs for layer in layers if layer.raster.frame.crs)
    code = f"EPSG:{known.code}" if known.code else f'"{known.name}"'
    others = f"among the other {len(layers) - 1} inputs" if len(layers) > 2 else "beside the other input"
    raise InputError(
        f"{homeless[0].path} has no coordinate reference system",
        f"without one its place {others} is unknown",
        f"add --from-crs {code} if that is what it is in, or leave the file out",
    )
