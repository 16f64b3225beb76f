"""Feature files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zembrel.errors import InputError, UsageError
from zembrel.features.files import holds_features, read_features
from zembrel.features.files.table import is_features
from zembrel.formats import readable
from zembrel.formats.archives import layer_of
from zembrel.formats.elsewhere import known, real
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


def open_table(path: Path, options: Inputs) -> FeatureTable:
    """One feature file, with its CRS, features and fields as the options say. Raises InputError."""
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
