"""source: remote services by name: add, list, show, test, set, remove, and what is kept of them."""

from __future__ import annotations

import datetime
import os
import re
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Annotated

from zembrel.engine.commit import Staging
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import fact
from zembrel.inputs.options import Output
from zembrel.measure import show_bytes
from zembrel.nested import toml_of
from zembrel.optiontext import OptionText
from zembrel.reading import readings
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt, Result
from zembrel.sources.blocks import fields
from zembrel.sources.offered import offered
from zembrel.sources.opening import FOLDER, find_source, known, user_folder
from zembrel.sources.service import Service, cache_folder
from zembrel.sources.sourcefile import ENDING, SourceFile, changed, checked_source, read_source, written
from zembrel.web.addresses import shown
from zembrel.web.cache import WebCache

_PATHS = ("address", "legend")  # settings that may be paths
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]*")


def source(
    output: Output,
    action: str = "",
    words: tuple[str, ...] = (),
    *,
    kind: Annotated[
        str | None,
        OptionText("xyz, tms, wmts, wms, wcs, tiles, coverages, stac, blocks, file or gazetteer.", "KIND"),
    ] = None,
    settings: Annotated[
        tuple[str, ...],
        OptionText(
            "Set a key of the source file, or a variable of the address. Repeatable.",
            "KEY=VALUE",
            flag="--set",
        ),
    ] = (),
    user: Annotated[bool, OptionText("Keep the source for all projects instead of in sources/.")] = False,
) -> Receipt:
    """Do `action` with the source that the first word names. Raises UsageError, InputError, RemoteError."""
    actions: Mapping[str, Callable[[], Receipt]] = {
        "add": lambda: _add(output, words, kind, settings, user=user),
        "list": _list,
        "show": lambda: _show(_named(words)),
        "test": lambda: _test(_named(words)),
        "set": lambda: _set(output, words, settings),
        "remove": lambda: _remove(_named(words)),
        "cache": lambda: _cache(words),
    }
    if not action:
        raise UsageError(
            "source does not say what to do", f"it can {', '.join(actions)}", "write source list"
        )
    if action not in actions:
        remedy = nearest_name(action, actions)
        raise UsageError(f"there is no {action!r} of sources", f"known are {', '.join(actions)}", remedy)
    if action not in ("add", "set") and (settings or kind):
        raise UsageError(
            f"source {action} sets nothing", "--set and --kind are for add and set", "leave them out"
        )
    return actions[action]()


def _named(words: Sequence[str]) -> SourceFile:
    if len(words) != 1:
        raise UsageError(f"{len(words)} names of a source", "one is needed", "see zembrel source list")
    return find_source(words[0])


def _add(
    output: Output, words: Sequence[str], kind: str | None, settings: Sequence[str], *, user: bool
) -> Receipt:
    if len(words) != 2 or not _NAME.fullmatch(words[0]):
        why = "a name of letters, digits, - and _, and an address are needed"
        raise UsageError(
            f"source add {' '.join(words[:1])}", why, "write zembrel source add NAME ADDRESS --kind xyz"
        )
    if kind is None:
        raise UsageError(
            "there is no kind", "an address does not say how it is asked", "add --kind xyz, wms, stac ..."
        )
    path = (user_folder() if user else Path(FOLDER)) / f"{words[0]}{ENDING}"
    given = _settings([f"address={words[1]}", *settings])
    made = changed(SourceFile(path, {"kind": kind, "address": words[1]}), _from_file(path, given))
    return _saved(made, output, "added", replace=output.replace)


def _set(output: Output, words: Sequence[str], settings: Sequence[str]) -> Receipt:
    given = [*words[1:], *settings]
    if not words or not given:
        why = "a name and KEY=VALUE are needed"
        raise UsageError("there is nothing to set", why, "write zembrel source set NAME version=912")
    with readings.aside():  # it is mended, not read
        named = find_source(words[0])
    said = _from_file(named.path, _settings(given))
    return _saved(changed(named, said), output, "set", replace=True)


def _settings(words: Sequence[str]) -> dict[str, str]:
    found = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not equals or not key:
            raise UsageError(f"{word!r} is no KEY=VALUE", "both are needed", "write for example zooms=0-17")
        found[key] = value
    return found


def _from_file(path: Path, given: Mapping[str, str]) -> dict[str, str]:
    """Settings with paths that were typed from here as they are found from the folder of the file."""
    own = path.absolute().parent
    here = {key: Path(given[key]) for key in _PATHS if key in given}
    typed = {key: there for key, there in here.items() if not there.is_absolute() and there.exists()}
    return {**given, **{key: os.path.relpath(there.absolute(), own) for key, there in typed.items()}}


def _saved(made: SourceFile, output: Output, how: str, *, replace: bool) -> Receipt:
    """The file in its place, if what it says can be."""
    checked_source(made.path, toml_of(written(made)))
    made.path.parent.mkdir(parents=True, exist_ok=True)
    with Staging(replace) as staging:
        staging.write_text(made.path, written(made))
        if made.path.exists():
            readings.mended(made.path)
        staging.publish()
    size = made.path.stat().st_size
    said = fact("source_saved", name=made.name, kind=made.kind, how=how)
    return Receipt(
        "source", (), str(made.path), chose=(said,), results=(Result(made.path, size),),
        own={"action": f"{how} {made.name}"},
    )  # fmt: skip


def _list() -> Receipt:
    sources = [read_source(path) for path in known()]
    rows = [("name", "kind", "holds", "address", "title")]
    rows += [
        (one.name, one.kind, one.holds, shown(one.filled(secret=False)), str(one.get("title", "")))
        for one in sources
    ]
    data = (
        show_table(rows)
        if sources
        else "no sources: add one with zembrel source add NAME ADDRESS --kind KIND\n"
    )
    own = {"action": "list", "sources": [_facts(one) for one in sources]}
    return Receipt("source", tuple(one.path for one in sources), data=data, own=own)


def _facts(one: SourceFile) -> dict[str, object]:
    return {"name": one.name, "path": str(one.path), "address": one.address} | dict(one.said) | {
        "variables": dict(one.variables), "headers": sorted(one.headers), "heights": dict(one.heights),
    }  # fmt: skip


def _show(one: SourceFile) -> Receipt:
    rows = [("file", str(one.path)), ("kind", one.kind), ("address", one.address)]
    rows += [(key, _plain(value)) for key, value in one.said.items() if key not in ("kind", "address")]
    rows += [(f"variable {key}", value) for key, value in one.variables.items()]
    rows += [(f"header {key}", value) for key, value in one.headers.items()]
    rows += [(f"heights {key}", f"{value:g}") for key, value in one.heights.items()]
    share = next((share for share in WebCache(cache_folder()).shares() if share.source == one.own), None)
    rows += [("kept", f"{share.entries:,} answers, {show_bytes(share.bytes)}" if share else "nothing")]
    return Receipt(
        "source",
        (one.path,),
        data=show_table(rows),
        own={"action": f"show {one.name}", "source": _facts(one)},
    )


def _plain(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _test(one: SourceFile) -> Receipt:
    """What the server offers, and how long it takes to say that."""
    began = time.perf_counter()
    found = offered(one, Service.of(one).believing(0))
    seconds = time.perf_counter() - began
    rows = [("offers", "title", "more")] + [(name, title, more) for name, title, more in found]
    data = show_table(rows)
    told = fields(one, Service.of(one)) if one.kind == "blocks" else []
    if told:
        data += "\n" + show_table([("field", "values"), *told])
    said = fact("source_answers", milliseconds=round(seconds * 1000), offers=len(found))
    own = {
        "action": f"test {one.name}",
        "offers": [{"name": name, "title": title, "more": more} for name, title, more in found],
    } | ({"fields": dict(told)} if told else {})
    return Receipt("source", (one.path,), checks=(said,), data=data, own=own)


def _remove(one: SourceFile) -> Receipt:
    """The file goes, and what is kept of it."""
    freed = WebCache(cache_folder()).clear(one.own)
    one.path.unlink()
    gone = fact("source_removed", path=str(one.path), bytes=freed)
    return Receipt("source", checks=(gone,), own={"action": f"remove {one.name}"})


def _cache(words: Sequence[str]) -> Receipt:
    """What is kept, or let go."""
    if not words or words[0] not in ("show", "clear") or len(words) > 2:
        why = "what is kept is shown or cleared"
        raise UsageError(f"source cache {' '.join(words)}".rstrip(), why, "write zembrel source cache show")
    cache, name = WebCache(cache_folder()), words[1] if len(words) > 1 else None
    shares = [share for share in cache.shares() if name is None or share.source.split()[0] == name]
    if words[0] == "clear":
        if name is not None and not shares:
            known_names = sorted({share.source.split()[0] for share in cache.shares()})
            remedy = nearest_name(name, known_names) if known_names else "see zembrel source cache show"
            raise InputError(f"nothing is kept of {name!r}", "no answers stand under that name", remedy)
        freed = sum(cache.clear(share.source) for share in shares) if name is not None else cache.clear()
        gone = fact("cache_cleared", sources=len(shares), bytes=freed)
        return Receipt("source", checks=(gone,), own={"action": " ".join(["clear", *words[1:]])})
    rows = [("source", "answers", "bytes", "oldest", "latest")]
    rows += [
        (
            share.source.split()[0],
            f"{share.entries:,}",
            show_bytes(share.bytes),
            _day(share.oldest),
            _day(share.latest),
        )
        for share in shares
    ]
    where = f"in {cache.folder}, of {show_bytes(cache.most)} at most\n"
    own = {"action": "cache", "kept": [share._asdict() for share in shares], "folder": str(cache.folder)}
    return Receipt("source", data=show_table(rows) + where, own=own)


def _day(seconds: float) -> str:
    return datetime.datetime.fromtimestamp(seconds, datetime.UTC).strftime("%Y-%m-%d %H:%M")
