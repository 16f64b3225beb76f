"""Feature files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from zembrel.errors import InputError, UsageError
from zembrel.features.files import layers_of, read_features
from zembrel.features.files.catalogue import is_features
from zembrel.formats.archives import layer_of
from zembrel.formats.layers import layer_choice
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import label, same
from zembrel.verbs.options import Inputs
from zembrel.verbs.within import condition_of, said_crs

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable


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


def open_table(origin: Origin, options: Inputs) -> FeatureTable:
    """One layer of features, with its CRS, features and fields as the options say. Raises InputError."""
    path = origin.name
    chosen = open_layers(origin, options)
    if len(chosen) > 1:
        raise UsageError(
            f"--layer {options.layer} fits {len(chosen)} layers of {path}",
            "one at a time is taken here",
            f"name one of {', '.join(name for name, _ in chosen[:12])}",
        )
    options = chosen[0][1]
    if not is_features(origin.file):
        raise InputError(
            f"{path} holds no features", "it is a raster, or of no format Zembrel reads", "name another file"
        )
    with origin.naming():
        table = read_features(origin.file, layer_of(options.layer, origin))
    crs = said_crs(options)
    if crs is not None:
        if table.crs is not None and not same(table.crs, crs) and not options.force_crs:
            raise InputError(
                f"{path} says it is in {label(table.crs)}, not {label(crs)}",
                "--from-crs is for files that do not say",
                "leave --from-crs out, or add --force-crs to overrule the file",
            )
        table = replace(table, crs=crs)
    condition = condition_of(options)
    if condition is not None:
        table = table.where(condition)
    if options.fields is not None:
        table = table.with_fields([name for part in options.fields.split(",") if (name := part.strip())])
    return table
