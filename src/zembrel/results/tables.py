"""Feature files written: whole or not at all, with the files that belong to them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

import shapely

from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.limits import ahead
from zembrel.errors import EmptyResultError, RefusedError, UsageError
from zembrel.facts import Fact
from zembrel.features.files import beside, check_name, make_writer, names_in, take_over
from zembrel.features.files.schema import Schema, schema_of
from zembrel.features.table import FeatureTable, Geometries
from zembrel.inputs.options import Output
from zembrel.reading import readings
from zembrel.results.receipt import Result

_CORNERS = 1_000_000
Parts = tuple[Iterable[FeatureTable], Schema]  # of one layer


class WrittenFeatures(NamedTuple):
    """What was written, or only counted, and what the file could not hold as it was."""

    result: Result
    notes: tuple[Fact, ...] = ()

    @property
    def features(self) -> int:
        return self.result.count or 0


def check_target(out: Path, output: Output) -> None:
    """Raise UsageError for a name that is no feature file's, RefusedError for what may not be replaced.

    Of a layer that goes into a file of others, only that layer is replaced.
    """
    form = check_name(out)
    if output.into is None:
        for path in (out, *beside(out)):
            check_free(path, output.replace)
        return
    if not form.layers:
        raise UsageError(
            f"--into {output.into}: {form.title} holds one layer", f"{out.name} is one", "end it in .gpkg"
        )
    if not output.into.strip() or re.match(r"(?i)gpkg_|rtree_|sqlite_", output.into):
        raise UsageError(f"--into {output.into!r}", "such names belong to the format", "choose another one")
    readings.refuse(out)
    taken = {name.lower(): (name, layer) for name, layer in (names_in(out) if out.exists() else {}).items()}
    name, layer = taken.get(output.into.lower(), ("", False))
    if name and (not layer or name != output.into):
        why = "names differ by more than their case" if layer else "another program keeps something there"
        raise RefusedError(f"{out} has a {'layer' if layer else 'table'} {name}", why, "choose another name")
    if name and not output.replace:
        raise RefusedError(
            f"{out} holds a layer {output.into} already", "it would be overwritten",
            "add --replace, which leaves the other layers alone, or choose another name",
        )  # fmt: skip


def write_layer(out: Path, table: FeatureTable, output: Output) -> WrittenFeatures:
    """Write `table` as the layer of a new file. Raises what `check_target` does, and ResourceError."""
    return write_parts(out, [table], schema_of([table], out.stem), output)


def write_parts(out: Path, parts: Iterable[FeatureTable], schema: Schema, output: Output) -> WrittenFeatures:
    """Write tables one by one as one layer; nothing in a dry run, though all are counted."""
    return write_layers(out, [(parts, schema)], output)


def write_layers(out: Path, layers: Sequence[Parts], output: Output) -> WrittenFeatures:
    """Write a file of these layers; with `output.into` one of that name beside those that are there."""
    check_target(out, output)
    if output.dry_run:
        count = sum(len(part) for parts, _ in layers for part in parts)
        return WrittenFeatures(Result(out, count=count))
    with Staging(output.replace or output.into is not None) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            if output.into is not None and out.exists():
                take_over(out, staged, output.into)
            done = [
                _written(staged, ahead(parts, output.limits), _named(schema, output))
                for parts, schema in layers
            ]
        count, notes = sum(features for features, _ in done), tuple(n for _, notes in done for n in notes)
        if not count and not output.keep_empty:
            raise EmptyResultError(
                f"{out} would hold no feature",
                "nothing in the inputs meets what was asked for",
                "check the area, the levels and the conditions, or add --keep-empty",
            )
        with resource_errors(out):
            made = [path for path in beside(out) if (staged.parent / path.name).exists()]
            size = staged.stat().st_size + sum((staged.parent / path.name).stat().st_size for path in made)
        for path in made:
            staging.path_for(path)
        for path in beside(out):
            if path not in made and path.exists():
                staging.let_go(path)
        staging.publish()
    return WrittenFeatures(Result(out, size, count=count, seconds=output.seconds), notes)


def full(waiting: Sequence[Geometries], most: int) -> bool:
    """Whether geometries that wait to be written are many: `most`, or a million corners."""
    corners = sum(int(shapely.get_num_coordinates(part).sum()) for part in waiting)
    return corners >= _CORNERS or sum(len(part) for part in waiting) >= most


def _named(schema: Schema, output: Output) -> Schema:
    return schema if output.into is None else schema._replace(name=output.into)


def _written(staged: Path, parts: Iterable[FeatureTable], schema: Schema) -> tuple[int, tuple[Fact, ...]]:
    writer, count = make_writer(staged, schema), 0
    try:
        for part in parts:
            writer.add(part)
            count += len(part)
        return count, writer.finish()
    except BaseException:
        writer.abort()
        raise
