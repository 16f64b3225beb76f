"""Mending what a GeoTIFF says of itself: new directories over the same encoded segments."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.sink import Sink
from zembrel.formats.tiff import tags
from zembrel.formats.tiff.assemble import Fields, Image, write_tiff
from zembrel.formats.tiff.description import write_description
from zembrel.formats.tiff.directory import Directory, read_directories
from zembrel.formats.tiff.encoding import Options, number_text
from zembrel.formats.tiff.geokeys import frame_tags
from zembrel.formats.tiff.reader import TiffRaster
from zembrel.formats.tiff.sink import TiffStore
from zembrel.formats.tiff.tiling import tile_encoder
from zembrel.formats.tiff.wording import Wording
from zembrel.provenance import document
from zembrel.raster.model import Raster

_SEGMENT_TAGS = (tags.STRIP_OFFSETS, tags.STRIP_BYTE_COUNTS, tags.TILE_OFFSETS, tags.TILE_BYTE_COUNTS)
_PLACE_TAGS = (
    tags.MODEL_PIXEL_SCALE, tags.MODEL_TIEPOINT, tags.MODEL_TRANSFORMATION,
    tags.GEO_KEY_DIRECTORY, tags.GEO_DOUBLE_PARAMS, tags.GEO_ASCII_PARAMS,
)  # fmt: skip
_POINTERS = {
    330: "sub-directories",
    513: "old-style JPEG data",
    34665: "camera data",
    34853: "camera positions",
}


def relabelled_images(path: Path, wording: Wording, *, keep_reduced: bool = True) -> list[Image]:
    """The images of the TIFF at `path`, the first of them with `wording`.

    Raises InputError if the file holds pointers that would not survive the move.
    """
    directories = read_directories(path)
    kinds = [d.number_of(tags.NEW_SUBFILE_TYPE, 0) for d in directories]
    kept = [d for d, kind in zip(directories, kinds, strict=True) if keep_reduced or not kind & tags.REDUCED]
    images = [_copied(directory) for directory in kept]
    fields = {tag: value for tag, value in images[0].fields.items() if tag not in (*_PLACE_TAGS, tags.NODATA)}
    fields |= frame_tags(wording.frame)
    fields[tags.IMAGE_DESCRIPTION] = tags.ASCII, write_description(wording.bands, document())
    legend = wording.bands[0].legend
    if legend is not None and len(wording.bands) == 1 and wording.bands[0].type == "uint8":
        fields[tags.PHOTOMETRIC] = tags.SHORT, tags.PALETTE
        fields[tags.COLOUR_MAP] = tags.SHORT, legend.table().T.astype(np.uint16).ravel() * 257
    images[0].fields = fields
    if wording.nodata is not None:
        for image, directory in zip(images, kept, strict=True):
            if not directory.number_of(tags.NEW_SUBFILE_TYPE, 0) & tags.MASK:
                image.fields[tags.NODATA] = tags.ASCII, number_text(wording.nodata)
    return images


def _copied(directory: Directory) -> Image:
    fields: Fields = {}
    for tag, entry in directory.entries.items():
        if tag in _POINTERS:
            raise InputError(
                f"{directory.container.path} holds {_POINTERS[tag]}",
                "they would lose their place if the file were put together anew",
                "use convert, which writes the cells again",
            )
        if tag not in _SEGMENT_TAGS:
            values: Any = directory.values(tag)
            fields[tag] = entry.type, directory.text(tag) if entry.type == tags.ASCII else values
    tiled = tags.TILE_WIDTH in directory
    where, sizes = _SEGMENT_TAGS[2:] if tiled else _SEGMENT_TAGS[:2]
    offsets, counts = directory.values(where).astype(np.int64), directory.values(sizes).astype(np.int64)
    file = directory.container.path
    assert isinstance(file, Path)
    return Image(fields, file, offsets, counts, tiled)


def write_relabelled(path: Path, images: list[Image], source: TiffRaster) -> None:
    """Write `images`, whose segments lie in `source`'s file, to `path` in that file's byte order."""
    write_tiff(path, images, order=source.directory.container.order)


def overview_sink(path: Path, view: Raster, images: list[Image], order: str) -> Sink:
    """Makes only overviews of `view`, and writes them with `images`, whose segments stay as they are."""
    encoder = tile_encoder(view.frame, view.bands, Options(), order, first=1)
    return Sink(encoder.blocks(), encoder, TiffStore(path, view.frame, view.bands, encoder, images))
