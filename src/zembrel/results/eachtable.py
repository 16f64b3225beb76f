"""Feature verbs that go one to one, and those that make one of many: their results and receipts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple, Protocol

from zembrel.errors import UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.features.files import check_name
from zembrel.features.files.catalogue import FEATURE_FORMATS, format_of
from zembrel.features.files.schema import KINDS, LayerSeen
from zembrel.features.spooled import SpooledLayer
from zembrel.features.table import FeatureTable
from zembrel.formats.origin import Origin
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.tables import LayerParts, open_layers
from zembrel.results.each import Lost, each, results
from zembrel.results.receipt import LOSSES, FeatureTotals, Receipt
from zembrel.results.tables import Parts, WrittenFeatures, check_target, write_layers


class Change(Protocol):
    """What is done to a layer, part by part."""

    def part(self, table: FeatureTable) -> FeatureTable: ...
    def finish(self) -> list[Fact]:
        """What there is to say of all parts. Raises InputError where nothing is left of them."""
        ...


class Unchanged:
    """The features as they are."""

    def part(self, table: FeatureTable) -> FeatureTable:
        return table

    def finish(self) -> list[Fact]:
        return []


class LayerSource(NamedTuple):
    """A layer to be read: where it is, its name, and the options that take it alone."""

    origin: Origin
    name: str
    options: Inputs


class Work(NamedTuple):
    """A file to be made, and the layers that go into it."""

    final: Path
    sources: list[LayerSource]


def one_to_one(
    verb: str, given: Given, output: Output, change: Callable[[], Change], *, check: bool = False
) -> Receipt:
    """Change each file of features and write it, with one receipt over all.

    change: makes what changes one layer; check: whether faulty geometries are refused unless they are to be
    mended or left out.
    """
    works = _works(given, output)
    for work in works:
        check_target(work.final, output)
    chose: list[Fact] = []

    def changed(source: LayerSource, final: Path) -> tuple[str, SpooledLayer]:
        layer, made = LayerParts(source.origin, source.options, check=check), change()
        spooled = SpooledLayer(map(made.part, layer))
        chose.extend([*layer.told, *made.finish()])
        return source.name, spooled

    def one(work: Work, final: Path) -> tuple[LayerSeen, WrittenFeatures]:
        finals, named = [final] * len(work.sources), [Path(source.name) for source in work.sources]
        made, _, outside = each(changed, work.sources, finals, named, keep_going=False)
        layers: list[Parts] = [
            (spooled, spooled.seen.schema(name if len(work.sources) > 1 else final.stem))
            for name, spooled in made
        ]
        written = write_layers(final, layers, output)
        if len(made) > 1:
            sizes = ", ".join(f"{name} {spooled.seen.count:,}" for name, spooled in made)
            chose.append(fact("layers_written", number=len(made), sizes=sizes))
        chose.extend([*outside, *written.notes])
        return made[0][1].seen, written

    done, lost, outside = each(
        one,
        works,
        [work.final for work in works],
        [work.sources[0].origin.name for work in works],
        keep_going=output.keep_going,
    )
    return receipt(verb, given.paths, output, done, [*chose, *outside], lost)


def _works(given: Given, output: Output) -> list[Work]:
    """What is to be done: a file for each layer, or one for several where its format holds them.

    Raises UsageError for two on one name, or many for one file.
    """
    ending, paths = _ending(output.format), given.paths
    sources = [
        LayerSource(o, name, own) for o in given.origins for name, own in open_layers(o, given.options)
    ]
    if len(sources) == len(paths):
        return [Work(final, [s]) for final, s in zip(results(paths, output, ending), sources, strict=True)]
    if output.into is not None:
        raise UsageError(
            f"--into {output.into} is one layer, and {len(sources)} are asked for",
            "they would become one", "name one with --layer",
        )  # fmt: skip
    if not output.to_folder:
        names = [source.name.lower() for source in sources]
        if not check_name(output.path).layers or len(set(names)) < len(names):
            raise UsageError(
                f"{len(sources)} layers make {len(sources)} results, {output.path} is one",
                "two have one name" if len(set(names)) < len(names) else "such a file holds one layer",
                f"give a folder: --out {output.path.with_suffix('')}/",
            )
        return [Work(output.path, sources)]
    if format_of(Path(f"x{ending or paths[0].suffix}")) is FEATURE_FORMATS["geopackage"]:
        finals = results(paths, output, ending)
        return [
            Work(f, [s for s in sources if s.origin.name == path])
            for f, path in zip(finals, paths, strict=True)
        ]
    named = [s.origin.name.with_name(s.name.replace("/", "_") + s.origin.name.suffix) for s in sources]
    return [Work(final, [s]) for final, s in zip(results(named, output, ending), sources, strict=True)]


def opened(origin: Origin, inputs: Inputs, *, check: bool) -> tuple[FeatureTable, list[Fact]]:
    """The features of a file, sound ones if `check`, and what there is to say about them."""
    layer = LayerParts(origin, inputs, check=check)
    return layer.table(), layer.told


def receipt(
    verb: str,
    paths: Sequence[Path],
    output: Output,
    done: Sequence[tuple[LayerSeen, WrittenFeatures]],
    chose: Sequence[Fact],
    lost: Lost = (),
) -> Receipt:
    """What was written, in numbers."""
    return Receipt(
        verb,
        tuple(paths),
        output.out,
        planned=output.dry_run,
        features=totals_of(done[0][0]),
        chose=distinct(chose),
        lost=tuple(lost),
        results=tuple(written.result for _, written in done),
        seconds=output.seconds,
        own={"features": sum(w.features for _, w in done), "fields": list(done[0][0].columns)},
        exit_code=LOSSES if lost else 0,
    )


def totals_of(seen: LayerSeen) -> FeatureTotals:
    """How many features of which kinds, and their fields."""
    kinds = tuple(kind for kind in KINDS if kind in seen.kinds)
    return FeatureTotals(seen.count, kinds, seen.missing, seen.crs, tuple(seen.columns))


def totals(table: FeatureTable) -> FeatureTotals:
    """The same of a table."""
    seen = LayerSeen()
    seen.add(table)
    return totals_of(seen)


def _ending(name: str | None) -> str | None:
    """The ending of a feature format by its name. Raises UsageError."""
    if name is None:
        return None
    if name not in FEATURE_FORMATS:
        raise UsageError(
            f"there is no feature format {name!r}",
            "see zembrel formats",
            nearest_name(name, list(FEATURE_FORMATS)),
        )
    return FEATURE_FORMATS[name].endings[0]
