"""What steps need of each other, and what of the whole cannot work: found before anything runs."""

from __future__ import annotations

import heapq
import os
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path, PurePath

from zembrel.errors import InputError, nearest_name
from zembrel.jobs.filenames import FileNames
from zembrel.jobs.patterns import is_pattern, matching
from zembrel.jobs.signature import VerbTable
from zembrel.jobs.steps import JobPlan, JobStep

# options that name a file to be written
PRODUCTS = ("out", "figure", "table", "index", "page", "difference", "viewer")
# options that may name a file to be read
_FILES = ("inputs", "within", "onto", "legend", "zones", "at", "ties", "overlay", "labels", "places", "by",
          "height_grid", "shift_grid", "inputs_from", "along", "order", "rule", "codes")  # fmt: skip
_ENDINGS = (
    ".tif", ".tiff", ".toml", ".geojson", ".json", ".gpkg", ".shp", ".csv", ".las", ".laz", ".png", ".jpg",
    ".parquet", ".kml", ".nc", ".asc", ".gtx", ".gsb", ".hgt", ".txt",
)  # fmt: skip
_LONGEST_NAME, _LONGEST_PATH = 255, 4_000  # bytes
_WITHOUT_INPUTS = ("derive", "frame")  # name what they read by options


def checked_graph(steps: Sequence[JobStep], folder: Path, verbs: VerbTable) -> tuple[JobStep, ...]:
    """The steps, each after those it needs. Raises InputError for whatever cannot work."""
    places = _Places.of(steps, FileNames(folder))
    steps = [replace(step, after=places.makers(step)) for step in steps]
    ordered = _ordered(steps)
    by_id = {step.id: step for step in steps}
    asked = {made.step for step in steps for made in step.made}
    for step in steps:
        _check_result(step, verbs, asked)
        _check_needs(step, verbs, by_id)
    _check_files(steps, folder, places)
    return ordered


class _Places:
    """Who makes what: files by path, folders, and what stands in which folder."""

    def __init__(self, names: FileNames) -> None:
        self.names = names
        self.files: dict[str, str] = {}
        self.folders: dict[str, list[str]] = defaultdict(list)
        self.inside: dict[str, list[str]] = defaultdict(list)

    @classmethod
    def of(cls, steps: Sequence[JobStep], names: FileNames) -> _Places:
        """Raises InputError where two steps write one file, or one could have no such name."""
        places = cls(names)
        for step in steps:
            for key, said, is_folder in written_by(step):
                _check_length(step, key, said)
                path = names.key(said)
                if is_folder:
                    places.folders[path].append(step.id)
                elif path in places.files:
                    raise _twice(step, key, path, places.files[path], steps)
                else:
                    places.files[path] = step.id
                for parent in _above(path):
                    places.inside[parent].append(step.id)
        return places

    def makers(self, step: JobStep) -> tuple[str, ...]:
        """The steps that make what `step` names by its path."""
        own = {self.names.key(path) for _, path, _ in written_by(step)}
        found: dict[str, None] = {}
        for key, text in step.texts:
            if key in PRODUCTS:
                continue
            path = text.partition("=")[2] if key == "let" else text
            for one in (path, path.rpartition(":")[0]):  # a layer of a file too
                if one and self.key(one) not in own:
                    found.update(dict.fromkeys(self.making(self.key(one), key)))
        found.pop(step.id, None)
        return tuple(found)

    def key(self, text: str) -> str:
        """A path or a pattern, as it is compared with others."""
        return normal(text) if is_pattern(text) or "\0" in text else self.names.key(text)

    def making(self, path: str, key: str) -> Iterator[str]:
        """The steps that make a file, what fits a pattern, or what is in a folder."""
        if path in self.files:
            yield self.files[path]
        elif is_pattern(path):
            yield from (step for made, step in self.files.items() if fnmatchcase(made, path))
        elif key == "inputs":
            yield from self.inside.get(path, ())
            yield from self.folders.get(path, ())
        for parent in _above(path) if self.folders else ():
            yield from self.folders.get(parent, ())


def _above(path: str) -> Iterator[str]:
    """The folders that a path lies in."""
    while parent := os.path.dirname(path):  # noqa: PTH120 a tenth of the time, for many files
        if parent == path:
            return
        yield parent
        path = parent
    yield "."


def normal(path: str) -> str:
    """A path as it is compared with others."""
    return os.path.normpath(path)


def written_by(step: JobStep) -> Iterator[tuple[str, str, bool]]:
    """The options by which a step names what it writes, the paths, and whether each is a folder."""
    for key in PRODUCTS:
        value = step.options.get(key)
        if isinstance(value, str):
            yield key, normal(value), value.endswith("/")


def _check_length(step: JobStep, key: str, path: str) -> None:
    """Raise InputError for a path that no file can have."""
    longest = max((len(os.fsencode(part)) for part in PurePath(path).parts), default=0)
    if longest > _LONGEST_NAME or len(os.fsencode(path)) > _LONGEST_PATH or "\0" in path:
        what = f"{key} of step {step.id} has {len(path):,} characters" if longest else f"{key} is empty"
        why = f"a name has at most {_LONGEST_NAME} bytes, and a path {_LONGEST_PATH:,}"
        raise step.spot.at(key).mistake(what, why, "write a shorter one")


def _twice(step: JobStep, key: str, path: str, first: str, steps: Sequence[JobStep]) -> InputError:
    other = next(one for one in steps if one.id == first)
    if other.name == step.name:
        what = f"{first} and {step.id} both write {path}"
        return step.spot.at(key).mistake(
            what, "one would be lost", f"put the variable of the matrix into {key}"
        )
    what = f"steps {first} and {step.id} both write {path}"
    return step.spot.at(key).mistake(what, "one would be lost", f"give one of them another {key}")


def _ordered(steps: Sequence[JobStep]) -> tuple[JobStep, ...]:
    """Each step after those it needs, else as they stand. Raises InputError for a circle."""
    number = {step.id: n for n, step in enumerate(steps)}
    open_needs = {step.id: set(step.needs) for step in steps}
    users: Mapping[str, list[str]] = defaultdict(list)
    for step in steps:
        for need in open_needs[step.id]:
            users[need].append(step.id)
    ready = [number[step.id] for step in steps if not open_needs[step.id]]
    heapq.heapify(ready)
    done: list[JobStep] = []
    while ready:
        step = steps[heapq.heappop(ready)]
        done.append(step)
        for user in users[step.id]:
            open_needs[user].discard(step.id)
            if not open_needs[user]:
                heapq.heappush(ready, number[user])
    if len(done) == len(steps):
        return tuple(done)
    raise _circle(steps, {id for id, needs in open_needs.items() if needs})


def _circle(steps: Sequence[JobStep], stuck: set[str]) -> InputError:
    by_id = {step.id: step for step in steps}
    at = next(step.id for step in steps if step.id in stuck)
    way: list[str] = []
    while at not in way:
        way.append(at)
        at = next(need for need in by_id[at].needs if need in stuck)
    loop = [*way[way.index(at) :], at]
    step = by_id[loop[0]]
    if len(loop) == 2:
        return step.spot.mistake(
            f"step {at} needs its own result", "it would never begin", "name another input"
        )
    what = f"steps wait for each other: {' needs '.join(loop)}"
    return step.spot.mistake(what, "none of them could begin", "take one of these references out")


def _check_result(step: JobStep, verbs: VerbTable, asked: set[str]) -> None:
    """Raise InputError for a step whose result goes nowhere, or that has inputs it cannot have."""
    signature = verbs.of(step.verb)
    takes = "inputs" in signature.options
    if step.inputs and not takes:
        what = f"{step.verb} takes no inputs"
        raise step.spot.at("inputs").mistake(what, "they would be ignored", "leave them out")
    named = any(key in step.options for key in ("inputs_from", "let"))
    if takes and not step.inputs and not named and step.verb not in _WITHOUT_INPUTS:
        what = f"step {step.id} has no inputs"
        raise step.spot.mistake(what, f"{step.verb} works on some", 'add inputs = "FILE", or "@step"')
    if step.out is not None or signature.silent:
        return
    if not signature.lazy:
        what = f"step {step.id} has no out"
        raise step.spot.mistake(what, f"what {step.verb} makes is a file", 'add out = "PATH"')
    if step.id not in asked:
        what = f"nobody asks for what step {step.id} makes"
        raise step.spot.mistake(
            what, "it has no out, and no step names it", f'add out, or inputs = "@{step.name}"'
        )


def _check_needs(step: JobStep, verbs: VerbTable, by_id: Mapping[str, JobStep]) -> None:
    """Raise InputError for a result that is no file, where one is needed."""
    for made in step.made:
        other = by_id[made.step]
        if other.out is None and verbs.of(other.verb).silent:
            what = f"step {other.id} makes no file to go on with"
            raise step.spot.mistake(what, f"{other.verb} only tells something", "name the step before it")
        held = other.out is None and (made not in step.inputs or made.rest)
        if held:
            what = f"step {other.id} has no out, and {step.id} names it in an option"
            raise step.spot.mistake(what, "an option names a file", f"add out to step {other.name}")


def _check_files(steps: Sequence[JobStep], folder: Path, places: _Places) -> None:
    """Raise InputError for a file that is not there and that no step makes."""
    seen: dict[str, bool] = {}
    for step in steps:
        own = {places.names.key(path): key for key, path, _ in written_by(step)}
        for key, text in step.texts:
            path = normal(text.partition("=")[2] if key == "let" else text)
            if (key in _FILES or key == "let") and places.key(path) in own:
                what = f"step {step.id} writes onto its own input {text}"
                raise step.spot.at(own[places.key(path)]).mistake(
                    what, "it would be lost", "give out another name"
                )
            if (key not in _FILES and key != "let") or not _is_file(key, path):
                continue
            if path not in seen:
                seen[path] = _there(folder, path) or any(places.making(places.key(path), "inputs"))
            if not seen[path]:
                raise _missing(step, key, path, folder, places)


def _is_file(key: str, text: str) -> bool:
    """Whether a text is meant as a path here."""
    if "://" in text or ":/" in text or text.startswith("-"):
        return False
    if key == "inputs":
        return True
    return PurePath(text).suffix.lower() in _ENDINGS and "," not in text and not is_pattern(text)


def _there(folder: Path, path: str) -> bool:
    if is_pattern(path):
        return next(matching(path, folder), None) is not None
    return (folder / path).exists() or _of_archive(folder / path)


def _of_archive(path: Path) -> bool:
    """Whether a path goes into a file, as into an archive."""
    return any(parent.is_file() for parent in path.parents)


def _missing(step: JobStep, key: str, path: str, folder: Path, places: _Places) -> InputError:
    spot = step.spot.at(key)
    if is_pattern(path):
        return spot.mistake(f"nothing fits {path!r}", f"looked in {folder.resolve()}", "check the pattern")
    near = [*places.files]
    beside = (folder / path).parent
    if beside.is_dir():
        near += [normal(str(PurePath(path).parent / name)) for name in os.listdir(beside)]  # noqa: PTH208 names alone
    said = nearest_name(path, near)
    remedy = said if said.startswith("did") else "check the path, seen from the folder of the job file"
    return spot.mistake(f"{path} does not exist", "it is no file, and no step makes it", remedy)


def needed(job: JobPlan, ids: set[str]) -> set[str]:
    """The steps of these ids, and all whose results they need."""
    by_id = {step.id: step for step in job.steps}
    found: set[str] = set()
    waiting = list(ids)
    while waiting:
        id = waiting.pop()
        if id not in found:
            found.add(id)
            waiting += by_id[id].needs
    return found


def after(job: JobPlan, ids: set[str]) -> set[str]:
    """The steps of these ids, and all that need their results."""
    found = set(ids)
    for step in job.steps:  # in their order
        if found.intersection(step.needs):
            found.add(step.id)
    return found
