"""Finding what is meant by the words of the command line: files, folders, patterns, archives, addresses."""

from __future__ import annotations

import glob
import re
import sys
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from zembrel.errors import InputError, UsageError
from zembrel.features.files.catalogue import is_features
from zembrel.formats import by_ranges, is_store, readable
from zembrel.formats.archives import is_archive, members
from zembrel.formats.origin import Origin
from zembrel.formats.web import at_address
from zembrel.inputs.options import Inputs
from zembrel.points.files.catalogue import surely_points
from zembrel.reading import layer_at, readings
from zembrel.web.addresses import is_address

Sort = Callable[[Path], bool]  # whether a file of that name is of some sort
_TABLES = (".csv", ".tsv", ".txt", ".parquet")
_SORTS: tuple[Sort, ...] = (readable, is_features, surely_points)  # of equally many files the first counts


def find(options: Inputs, out: Path | None = None, sort: Sort | None = None) -> list[Origin]:
    """What files, folders and patterns hold, in the given order; each archive is opened once.

    sort: what is taken of a folder that holds any of it; else what it holds most of. Raises InputError for a
    path that is not there or a pattern that fits nothing; UsageError if nothing is given at all.
    """
    readings.trust(options.trust_inputs)
    readings.stay_offline(options.offline)
    words = [*options.inputs, *_listed(options.inputs_from)]
    if not words and options.rasters:
        return []
    if not words:
        raise UsageError(
            "there is no input", "the verb has nothing to work on", "name files, folders or patterns"
        )
    found: list[Origin] = []
    for word in words:
        found += _elsewhere(word, options) or map(Origin.of, _expand(word, out, sort))
    for origin in found:
        readings.note(origin.file)
    if out is not None and not out.is_dir():
        readings.refuse(out)
    return list({origin.name: origin for origin in found}.values())


def _no_raster(path: Path) -> bool:
    return is_features(path) or surely_points(path)


def _elsewhere(word: str, options: Inputs) -> list[Origin]:
    """What an address or an archive holds; nothing for any other word."""
    if is_address(word):
        origin = at_address(word, options.offline, by_ranges)
        return members(origin, options.layer, readable, _no_raster) if is_archive(origin.name) else [origin]
    path = Path(word)
    inside = path.is_file() and is_archive(path)
    return members(Origin.of(path), options.layer, readable, _no_raster) if inside else []


def _listed(listing: str | None) -> list[str]:
    if listing is None:
        return []
    if listing == "-":
        return [line.strip() for line in sys.stdin if line.strip()]
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


def _expand(word: str, out: Path | None, sort: Sort | None) -> list[Path]:
    path = Path(word)
    if path.is_dir() and not is_store(path):
        held = [p for p in _natural(path.rglob("*")) if not _hidden(p, path) and not _is_source(p)]
        sorts = [_of_sort(held, one) for one in _SORTS]
        inside = (_of_sort(held, sort) if sort is not None else []) or max(sorts, key=_weight)
        stores = [p for p in held if is_store(p)]
        whole = out.resolve() if out is not None else None
        held = [p for p in held if not any(store in p.parents for store in stores)]
        held = [p for p in held if whole is None or not _within(p, whole)]
        taken = set(inside)
        inside = [p for p in held if p in taken]
        readings.pass_over(p for p in held if p not in taken and any(one(p) for one in _SORTS))
        if not inside:
            raise InputError(
                f"folder {path} holds no raster, no features and no points",
                "nothing in it can be read",
                "see zembrel formats",
            )
        return inside
    if path.exists():
        return [layer_at(path)]
    whole = out.resolve() if out is not None else None
    return named_paths(
        word, lambda at: (at.is_file() or is_store(at)) and (whole is None or not _within(at, whole))
    )


def named_paths(word: str, fits: Sort = lambda path: True) -> list[Path]:
    """Return the path that `word` names, or in natural order those that it fits as a pattern.

    fits: whether a path that fits the pattern counts. Raises InputError if there is none.
    """
    if Path(word).exists():
        return [Path(word)]
    if not any(sign in word for sign in "*?["):
        raise InputError(f"{word} does not exist", f"looked in {Path.cwd()}", "check the path")
    matches = _natural(Path(match) for match in glob.glob(word, recursive=True))  # noqa: PTH207 Path.glob takes no absolute pattern
    matches = [match for match in matches if fits(match)]
    if not matches:
        raise InputError(f"nothing fits {word!r}", f"looked in {Path.cwd()}", "check the pattern")
    return matches


def _of_sort(held: Sequence[Path], sort: Sort) -> list[Path]:
    """Those of a sort; a table counts where there is nothing else, since others tell of their neighbours."""
    found = [path for path in held if sort(path)]
    return [path for path in found if not path.name.lower().endswith(_TABLES)] or found


def _weight(paths: Sequence[Path]) -> tuple[bool, int]:
    return any(not path.name.lower().endswith(_TABLES) for path in paths), len(paths)


def _within(path: Path, whole: Path) -> bool:
    """Whether `path` is the result, whose resolved path is `whole`, or lies in its folder."""
    return whole == (here := path.resolve()) or whole in here.parents


def _is_source(path: Path) -> bool:
    """Whether a file says where a service is: such a layer is named, not come across."""
    return path.name.endswith(".source.toml")


def _hidden(path: Path, folder: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(folder).parts)


def _natural(paths: Iterable[Path]) -> list[Path]:
    """By name, with numbers in their own order: m2 before m10."""

    def key(path: Path) -> list[tuple[int, int | str]]:
        return [
            (0, int(part)) if part.isdigit() else (1, part) for part in re.split(r"(\d+)", str(path)) if part
        ]

    return sorted(paths, key=key)
