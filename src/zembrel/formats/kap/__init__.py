"""Raster nautical charts (BSB/KAP): a header of text, rows of runs of palette colours, and where they are.

Source: Maptech and NOAA, "BSB File Format", version 3: lines `KEY/field,field` of the header, which go on in
lines that begin with blanks, end at the bytes 26 and 0, and are followed by a byte with the bits of a colour;
each row is its number, runs, and a byte 0; the last four bytes say where the table of rows begins. Numbers
have seven bits a byte, the first bit says whether another byte follows.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.formats.kap.kapreading import open_chart
from zembrel.formats.sink import Sink
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.raster.model import Band, Raster

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The chart at `path`. Raises InputError for one that breaks the rules."""
    return open_chart(path)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """Raises RefusedError: a chart has a projection, colours and a scale, which are another verb's."""
    raise RefusedError(
        f"{path.name} is a nautical chart",
        "it has a scale, at most 127 colours and reference points",
        "use zembrel deliver chart",
    )
