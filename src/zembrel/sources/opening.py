"""Sources by name, and what each kind of them gives."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from pathlib import Path

from zembrel.errors import InputError, nearest_name
from zembrel.reading import readings
from zembrel.sources.documents import holding_together
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import ENDING, SourceFile, read_source
from zembrel.sources.sourcekinds import KINDS, RASTERS
from zembrel.sources.wish import Open, SourceLayers, Wish

FOLDER = "sources"


def user_folder() -> Path:
    """Where the user's own sources stand."""
    from platformdirs import user_config_path

    return user_config_path("zembrel") / FOLDER


def folders() -> tuple[Path, ...]:
    """Where sources are looked for: here, in the folder of the project, in that of the user."""
    return Path(), Path(FOLDER), user_folder()


def known() -> Iterator[Path]:
    """The source files there are; the first of a name counts."""
    seen = set[str]()
    for folder in folders():
        for path in sorted(folder.glob(f"*{ENDING}")) if folder.is_dir() else []:
            if path.name not in seen:
                seen.add(path.name)
                yield path


def gazetteers() -> Iterator[SourceFile]:
    """The sources that know places by name."""
    for path in known():
        source = read_source(path)
        if source.kind == "gazetteer":
            yield source


def find_source(word: str) -> SourceFile:
    """The source of that name, or in that file. Raises InputError with the near miss."""
    path = Path(word)
    if word.endswith(ENDING) and path.is_file():
        return read_source(path)
    names = {path.name.removesuffix(ENDING): path for path in known()}
    if word not in names:
        where = ", ".join(str(folder) for folder in folders() if folder.is_dir())
        remedy = (
            nearest_name(word, names) if names else f"add it: zembrel source add {word} ADDRESS --kind xyz"
        )
        raise InputError(f"there is no source {word!r}", f"looked in {where}", remedy)
    return read_source(names[word])


def open_source(source: SourceFile, wish: Wish, *, offline: bool = False) -> SourceLayers:
    """The rasters that a source has of what is wanted.

    Raises InputError for a kind that has none, RemoteError where its server does not play along.
    """
    if KINDS[source.kind].gives != RASTERS:
        what = f"{source.name} gives {KINDS[source.kind].gives}, and no rasters"
        raise InputError(what, f"it is of kind {source.kind}", f"see zembrel source show {source.name}")
    readings.note(source.path)
    module = importlib.import_module(f"zembrel.sources.{KINDS[source.kind].module}")
    opened: Open = module.open_source
    with holding_together(source.name):
        return opened(source, Service.of(source, offline=offline), wish)
