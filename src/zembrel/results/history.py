"""How files came about, as they tell it themselves, or a file beside them does."""

from __future__ import annotations

import json
import struct
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from zembrel.damaged import DAMAGED
from zembrel.engine.commit import Staging, check_free
from zembrel.errors import ZembrelError
from zembrel.features.files.geopackage.metadata import read_provenance
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.finding import find
from zembrel.inputs.intake import identified
from zembrel.inputs.layers import open_layer
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.tables import open_table
from zembrel.measure import show_bytes
from zembrel.provenance import KEY, document, steps_in
from zembrel.reading import readings
from zembrel.results.receipt import Receipt
from zembrel.sqlitefile import opened_for_reading
from zembrel.verbtable.record import FEATURES, POINTS, RASTERS

BESIDE = f".{KEY}.json"  # added to the whole name of a file
_SHOWN = 12  # inputs of a step
_DIGITS = 16  # of a checksum
Steps = Sequence[Mapping[str, Any]]


def histories(inputs: Inputs, output: Output) -> Receipt:
    """The steps behind each input, oldest first. Raises InputError for what is not there."""
    found: dict[Path, Steps] = {}
    for word in inputs.inputs or ("",):
        path = Path(word)
        if path.suffix in _READERS and path.is_file():
            found[path] = _of_pack(path) or _beside(path)
        if not found.get(path):
            found |= dict(_of_layers((word,) if word else (), inputs, output))
    layers = [{"path": str(path), "steps": list(steps)} for path, steps in found.items()]
    text = "\n".join(_text(path, steps) for path, steps in found.items())
    return Receipt("describe", tuple(found), own={"layers": layers}, data=text)


def check_beside(final: Path, *, replace: bool) -> None:
    """Raise RefusedError if what would tell of `final` is a file that tells of something else."""
    if not _beside(final):
        check_free(final.with_name(final.name + BESIDE), replace)


def write_beside(finals: Sequence[Path], *, replace: bool) -> None:
    """Tell beside each result how it came about.

    Raises RefusedError for a file that tells of something else, unless that may be replaced; ResourceError.
    """
    told = document()
    if told is None:
        return
    mains = {
        final.with_suffix(""): final for final in reversed(finals)
    }  # the first of a name and its sidecars
    told = json.dumps(json.loads(told), indent=1) + "\n"
    with Staging(replace=True) as staging:
        for final in (one for one in finals if one in mains.values()):
            check_beside(final, replace=replace)
            staging.write_text(final.with_name(final.name + BESIDE), told)
        staging.publish()


def _of_layers(words: tuple[str, ...], inputs: Inputs, output: Output) -> Iterator[tuple[Path, Steps]]:
    """Of layers, which say it when they are opened."""
    options = Inputs(inputs=words, inputs_from=inputs.inputs_from)
    for origin in find(options):
        one = Inputs(inputs=(str(origin.name),))
        with suppress(ZembrelError):
            dataset = identified(one, output, (RASTERS, FEATURES, POINTS))[0]
            opened = {RASTERS: open_layer, FEATURES: open_table}.get(dataset.kind, open_cloud)
            opened(origin, one)
        told = readings.earlier.get(origin.file) or readings.earlier.get(origin.name)
        yield origin.name, told or _beside(origin.name)


def _beside(path: Path) -> Steps:
    with suppress(OSError, UnicodeDecodeError):
        return steps_in(path.with_name(path.name + BESIDE).read_text("utf-8"))
    return ()


_GZIP, _MOST = 31, 64_000_000  # window bits; bytes of a text that is told


def _of_archive(path: Path) -> Steps:
    with zipfile.ZipFile(path) as held, held.open(f"{KEY}.json") as member:
        return steps_in(member.read(_MOST).decode("utf-8"))


def _of_pmtiles(path: Path) -> Steps:
    with path.open("rb") as file:
        at, size = struct.unpack("<QQ", file.read(127)[24:40])
        file.seek(at)
        about = zlib.decompressobj(_GZIP).decompress(file.read(min(size, _MOST)), _MOST)
    return steps_in(json.dumps(dict(json.loads(about)).get(KEY, {})))


def _of_mbtiles(path: Path) -> Steps:
    with closing(opened_for_reading(path)) as base:
        row = base.execute("SELECT value FROM metadata WHERE name = ?", (KEY,)).fetchone()
        return steps_in(row[0]) if row else ()


def _of_geopackage(path: Path) -> Steps:
    with closing(opened_for_reading(path)) as base:
        read_provenance(path, base)
        return readings.earlier.get(path, ())


_READERS = {
    ".zip": _of_archive, ".kmz": _of_archive, ".pmtiles": _of_pmtiles, ".mbtiles": _of_mbtiles,
    ".gpkg": _of_geopackage,
}  # fmt: skip


def _of_pack(path: Path) -> Steps:
    """Of a pack, by the rules of its kind; none of one that is damaged."""
    with suppress(*DAMAGED):
        return _READERS[path.suffix](path)
    return ()


def _text(path: Path, steps: Steps) -> str:
    if not steps:
        return f"{path}   tells nothing of how it came about\n"
    lines = [f"{path}   {len(steps)} step{'s' * (len(steps) != 1)}"]
    for number, step in enumerate(steps, 1):
        lines += _lines(number, step)
    return "\n".join(lines) + "\n"


def _lines(number: int, step: Mapping[str, Any]) -> Iterator[str]:
    options = step.get("options")
    said = (
        [f"--{name.replace('_', '-')} {_shown(value)}" for name, value in options.items()]
        if isinstance(options, dict)
        else []
    )
    yield "   ".join([f"{number:>3}  {step.get('verb')}", *said, f"zembrel {step.get('version')}"])
    rows = [row for row in step.get("inputs", ()) if isinstance(row, dict)]
    for row in rows[:_SHOWN]:
        size = f"   {show_bytes(row['bytes'])}" if isinstance(row.get("bytes"), int) else ""
        mark = f"   blake3 {str(row['blake3'])[:_DIGITS]}" if "blake3" in row else ""
        yield f"       read   {row.get('name')}{size}{mark}"
    more = step.get("more_inputs")
    others = len(rows) - _SHOWN + (more.get("count", 0) if isinstance(more, dict) else 0)
    if others > 0:
        yield f"       and {others:,} more"
    for move in step.get("operations", ()):
        if isinstance(move, dict):
            yield f"       {move.get('from')} -> {move.get('to')}: {move.get('how')}"


def _shown(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return "" if value is True else str(value)
