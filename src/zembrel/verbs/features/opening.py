"""Feature files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zembrel.errors import InputError, UsageError
from zembrel.features.files import holds_features, layers_of, read_features
from zembrel.features.files.table import is_features
from zembrel.formats import readable
from zembrel.formats.archives import layer_of
from zembrel.formats.elsewhere import known, real
from zembrel.formats.layers import layer_choice
from zembrel.geodesy.crs import label, same
from zembrel.verbs.inputs import find_inputs
from zembrel.verbs.options import Inputs
from zembrel.verbs.within import parse_crs_phrase

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable


def feature_paths(options: Inputs, out: Path | None = None) -> list[Path]:
    """The inputs if they are feature files; none if they are rasters. Raises UsageError for some of each."""
    paths = find_inputs(options, out)
    shapes_only = out is not None and is_features(out) and not readable(out)
    features = [p for p in paths if (shapes_only and is_features(p)) or holds_features(real(p))]
    if features and len(features) < len(paths):
        other = next(path for path in paths if path not in features)
        raise UsageError(
            f"{features[0]} holds features, and {other} does not",
            "they do not go together",
            "give them in two runs",
        )
    if not features and (options.condition or options.fields):
        raise UsageError(
            f"{paths[0]} holds no features", "--where and --fields pick among them", "leave them out"
        )
    return features


def open_layers(path: Path, options: Inputs) -> list[tuple[str, Inputs]]:
    """The layers of a feature file that are asked for: the name of each, and the options that take it alone.

    One that nobody picked is called by the file. Raises InputError.
    """
    if not is_features(real(path)):
        return [(path.stem, options)]
    layer = layer_of(options.layer, path) if known(path) else options.layer
    chosen = layer_choice(layer, lambda: layers_of(real(path)))
    if len(chosen) == 1:
        return [(path.stem, options if chosen[0] == layer else replace(options, layer=chosen[0]))]
    return [(str(name), replace(options, layer=name)) for name in chosen]


def open_table(path: Path, options: Inputs) -> FeatureTable:
    """One layer of features, with its CRS, features and fields as the options say. Raises InputError."""
    chosen = open_layers(path, options)
    if len(chosen) > 1:
        raise UsageError(
            f"--layer {options.layer} fits {len(chosen)} layers of {path}",
            "one at a time is taken here",
            f"name one of {', '.join(name for name, _ in chosen[:12])}",
        )
    options = chosen[0][1]
    if not is_features(real(path)):
        raise InputError(
            f"{path} holds no features", "it is a raster, or of no format Zembrel reads", "name another file"
        )
    layer = layer_of(options.layer, path) if known(path) else options.layer
    table = read_features(real(path), layer)
    if options.from_crs:
        crs = parse_crs_phrase(options.from_crs)
        if table.crs is not None and not same(table.crs, crs) and not options.force_crs:
            raise InputError(
                f"{path} says it is in {label(table.crs)}, not {label(crs)}",
                "--from-crs is for files that do not say",
                "leave --from-crs out, or add --force-crs to overrule the file",
            )
        table = replace(table, crs=crs)
    if options.condition:
        table = table.where(options.condition)
    if options.fields is not None:
        table = table.with_fields([name for part in options.fields.split(",") if (name := part.strip())])
    return table
