"""A layer of features by its name, as `areas.gpkg:zones`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zembrel.errors import InputError
from zembrel.features.files import holds_features, layers_of, read_features
from zembrel.features.files.catalogue import format_of

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable

_SHOWN = 12  # names of layers


def split_layer(text: str) -> tuple[Path, str | None]:
    """The file that a phrase names, and the layer in it if one is named."""
    whole = Path(text)
    head, colon, layer = text.rpartition(":")
    named = bool(colon and layer) and not whole.exists() and Path(head).is_file()
    return (Path(head), layer) if named and holds_features(Path(head)) else (whole, None)


def named_layer(text: str) -> tuple[Path, str | None]:
    """The same; of several layers one has to be named. Raises InputError, with those there are."""
    path, layer = split_layer(text)
    form = format_of(path)
    if form is None or not form.layers or not path.is_file():
        return path, layer
    names = layers_of(path)
    if layer is None and len(names) > 1:
        raise InputError(
            f"{path} holds {len(names)} layers",
            f"they are {', '.join(names[:_SHOWN])}{' ...' * (len(names) > _SHOWN)}",
            f"name one: {path}:{names[0]}",
        )
    return path, layer


def read_named(text: str) -> FeatureTable:
    """The features of the layer that a phrase names. Raises InputError."""
    return read_features(*named_layer(text))
