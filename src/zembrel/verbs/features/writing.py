"""Feature files written: whole or not at all, with the files that belong to them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.errors import RefusedError
from zembrel.features.files import beside, check_name, make_writer
from zembrel.features.files.schema import Schema, schema_of
from zembrel.features.table import FeatureTable
from zembrel.verbs.options import Output


class WrittenFeatures(NamedTuple):
    """Features and bytes written, and what the file could not hold as it was."""

    features: int
    bytes: int
    notes: tuple[str, ...] = ()


def check_target(out: Path, replace: bool) -> None:
    """Raise UsageError for a name that is no feature file's, RefusedError for what may not be replaced."""
    check_name(out)
    for path in (out, *beside(out)):
        check_free(path, replace)


def write_layer(out: Path, table: FeatureTable, output: Output) -> WrittenFeatures:
    """Write `table` as the layer of a new file. Raises what `check_target` does, and ResourceError."""
    return write_parts(out, [table], schema_of([table], out.stem), output)


def write_parts(out: Path, parts: Iterable[FeatureTable], schema: Schema, output: Output) -> WrittenFeatures:
    """Write tables one by one as one layer; nothing in a dry run, though all are counted."""
    check_target(out, output.replace)
    if output.dry_run:
        return WrittenFeatures(sum(len(part) for part in parts), 0)
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            count, notes = _written(staged, parts, schema)
        if not count and not output.keep_empty:
            raise RefusedError(
                f"{out} would hold no feature",
                "nothing in the inputs meets what was asked for",
                "check the area, the levels and the conditions, or add --keep-empty",
            )
        with resource_errors(out):
            made = [path for path in beside(out) if (staged.parent / path.name).exists()]
            size = staged.stat().st_size + sum((staged.parent / path.name).stat().st_size for path in made)
        for path in made:
            staging.path_for(path)
        staging.publish()
    return WrittenFeatures(count, size, notes)


def _written(staged: Path, parts: Iterable[FeatureTable], schema: Schema) -> tuple[int, tuple[str, ...]]:
    writer, count = make_writer(staged, schema), 0
    try:
        for part in parts:
            writer.add(part)
            count += len(part)
        return count, writer.finish()
    except BaseException:
        writer.abort()
        raise
