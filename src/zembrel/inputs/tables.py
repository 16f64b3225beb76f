"""Feature files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import replace
from typing import Any

from zembrel.errors import EmptyInputError, InputError, UsageError
from zembrel.expression.formula import Condition, comparable
from zembrel.facts import Fact, remarks
from zembrel.features.columns import INTEGER, REAL, TRUTH
from zembrel.features.files import feature_parts, layers_of
from zembrel.features.files.catalogue import is_features
from zembrel.features.files.named import named_layer
from zembrel.features.files.schema import LayerSeen
from zembrel.features.soundness import Mending
from zembrel.features.spooled import SpooledLayer
from zembrel.features.table import FeatureTable, appended
from zembrel.formats.archives import layer_of
from zembrel.formats.layers import layer_choice
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS
from zembrel.inputs.options import Inputs
from zembrel.inputs.saidcrs import crs_of
from zembrel.inputs.within import condition_of


def open_layers(origin: Origin, options: Inputs) -> list[tuple[str, Inputs]]:
    """The layers of a feature file that are asked for: the name of each, and the options that take it alone.

    One that nobody picked is called by the file. Raises InputError.
    """
    stem = origin.name.stem
    if not is_features(origin.file):
        return [(stem, options)]
    layer = layer_of(options.layer, origin)
    chosen = layer_choice(layer, lambda: layers_of(origin.file))
    if len(chosen) == 1:
        return [(stem, options if chosen[0] == layer else replace(options, layer=chosen[0]))]
    return [(str(name), replace(options, layer=name)) for name in chosen]


def beside(text: str, inputs: Inputs) -> tuple[Origin, Inputs, Inputs]:
    """A layer of features that an option names: where it is, how it is understood, and how the inputs are.

    --from-crs goes for those of them that say no CRS. Raises InputError.
    """
    path, layer = named_layer(text)
    origin, alone = Origin.of(path), Inputs(layer=layer, offline=inputs.offline)
    own = replace(
        alone, from_crs=inputs.from_crs, force_crs=inputs.force_crs, crs_of_others=True,
        repair=inputs.repair, skip_invalid=inputs.skip_invalid,
    )  # fmt: skip
    silent = inputs.from_crs is not None and LayerParts(origin, alone).crs is None
    return origin, own, replace(inputs, crs_of_others=True) if silent else inputs


def open_table(origin: Origin, options: Inputs) -> FeatureTable:
    """One layer of features, with its CRS, features and fields as the options say. Raises InputError."""
    return LayerParts(origin, options).table()


class LayerParts:
    """One layer of features, some at a time, as the options say. Raises InputError.

    check: whether faulty features are mended, left out or refused. `told` says of all, once they were taken.
    """

    def __init__(self, origin: Origin, options: Inputs, *, check: bool = False) -> None:
        chosen = open_layers(origin, options)
        if len(chosen) > 1:
            raise UsageError(
                f"--layer {options.layer} fits {len(chosen)} layers of {origin.name}",
                "one at a time is taken here",
                f"name one of {', '.join(name for name, _ in chosen[:12])}",
            )
        if not is_features(origin.file):
            raise InputError(
                f"{origin.name} holds no features",
                "it is a raster, or of no format Zembrel reads",
                "name another file",
            )
        self._origin, self._options = origin, chosen[0][1]
        self._check = check or options.repair or options.skip_invalid
        self.told: list[Fact] = []
        self.remarks: tuple[str, ...] = ()

    @property
    def crs(self) -> CRS | None:
        """The CRS of the features."""
        parts = self._read()
        try:
            return next(parts).crs
        finally:
            parts.close()

    def table(self) -> FeatureTable:
        """All features at once."""
        table = appended(list(self))
        return replace(table, remarks=self.remarks)

    def __iter__(self) -> Iterator[FeatureTable]:
        mending = Mending(self._origin.name, self._options.repair, self._options.skip_invalid)
        said: dict[str, None] = {}
        for part in self._picked():
            said |= dict.fromkeys(part.remarks)
            yield mending.part(part) if self._check else part
        self.remarks = tuple(said)
        self.told = [*remarks(said), *(mending.finish() if self._check else [])]

    def _picked(self) -> Iterator[FeatureTable]:
        """The features that the condition picks, with the fields that are asked for."""
        condition = condition_of(self._options)
        if condition is None and self._options.fields is None:
            yield from self._read()
            return
        whole = SpooledLayer(self._read())
        if condition is not None:
            condition.check_names([*whole.seen.columns, *([whole.seen.key] if whole.seen.told else [])])
        fields = [name for part in (self._options.fields or "").split(",") if (name := part.strip())]
        met = 0
        for part in whole:
            kept = part if condition is None else part.take(_meets(part, condition, whole.seen))
            met += len(kept)
            yield kept if self._options.fields is None else kept.with_fields(fields)
        if condition is not None and not met:
            raise EmptyInputError(
                f"no feature meets {condition.text!r}",
                f"all {whole.seen.count:,} were looked at",
                "check the values",
            )

    def _read(self) -> Generator[FeatureTable, None, None]:
        """The features as their file has them, in the CRS that the options say."""
        with self._origin.naming():
            for part in feature_parts(self._origin.file, layer_of(self._options.layer, self._origin)):
                yield replace(part, crs=crs_of(self._origin.name, part.crs, self._options))


def _meets(part: FeatureTable, condition: Condition, seen: LayerSeen) -> Any:
    """Which features of a part meet a condition; words and numbers are what they are in the whole layer."""
    columns = part.columns if part.ids is None else {part.key: part.ids} | dict(part.columns)
    numbers = {name: seen.columns[name].kind in (INTEGER, REAL, TRUTH) for name in part.columns}
    plain = {name: comparable(columns[name], numbers.get(name)) for name in condition.names}
    return condition.met(plain, len(part))
