"""Does a TIFF obey the rules of TIFF, GeoTIFF and the cloud-optimized layout? Item by item.

Sources: TIFF 6.0, sections 2, 3 to 8, 14 and 15; OGC GeoTIFF 1.1 (19-008r4), clauses 7.1 to 7.4; OGC
Cloud Optimized GeoTIFF 1.0 (21-026), clauses 7 to 9.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from zembrel.errors import InputError, ZembrelError
from zembrel.formats.tiff import geokeys, tags
from zembrel.formats.tiff.directory import Directory, read_directories, sub_directories
from zembrel.formats.tiff.layout import SegmentLayout, read_layout
from zembrel.formats.tiff.tiffopening import open_tiff
from zembrel.geodesy.crs import UnresolvedCRS
from zembrel.handles import Readable, file_handles
from zembrel.raster.passing import blocks_of

GOOD, FAULT, NOTE = "ok", "fault", "note"
OVERVIEWS_FROM = 1024  # cells along the longer side from which the cloud layout wants overviews
_HALF = 0.06  # by how much an overview may miss half the size of the one before


class RuleItem(NamedTuple):
    """One rule: whose it is, what it asks, whether it is obeyed, and what was found."""

    standard: str
    rule: str
    verdict: str
    found: str


@dataclass(frozen=True)
class _Image:
    directory: Directory
    layout: SegmentLayout
    kind: int

    @property
    def size(self) -> str:
        return f"{self.layout.width:,} x {self.layout.height:,}"


def check_tiff(path: Readable) -> list[RuleItem]:
    """Every rule looked at, in the order of the standards. Raises InputError only if it is no TIFF at all."""
    try:
        directories = read_directories(path)
    except InputError as exc:
        if "is not a TIFF" in exc.what:
            raise
        return [RuleItem("TIFF", "the container can be read", FAULT, f"{exc.what}: {exc.why}")]
    items = [RuleItem("TIFF", "the container can be read", GOOD, f"{len(directories)} directories")]
    items += _container(directories)
    images: list[_Image] = []
    for directory in directories:
        try:
            kind = directory.number_of(tags.NEW_SUBFILE_TYPE, 0)
            images.append(_Image(directory, read_layout(directory), kind))
        except ZembrelError as exc:
            items.append(RuleItem("TIFF", f"image {directory.number + 1} is described", FAULT, f"{exc.why}"))
    for image in images:
        items += _image(image)
    if not images:
        return items
    items += [_segments(path, images), *_geo(images[0]), *_cloud(images)]
    return items


def _item(standard: str, rule: str, faults: Sequence[str], good: str) -> RuleItem:
    more = f" (and {len(faults) - 1} more)" if len(faults) > 1 else ""
    return RuleItem(standard, rule, FAULT if faults else GOOD, faults[0] + more if faults else good)


def _container(directories: Sequence[Directory]) -> Iterator[RuleItem]:
    unsorted = [f"directory {d.number + 1}" for d in directories if [*d.entries] != sorted(d.entries)]
    yield _item("TIFF", "tags stand in ascending order", unsorted, "in all directories")
    odd = [
        f"tag {tag} of directory {d.number + 1} at byte {entry.offset:,}"
        for d in directories
        for tag, entry in d.entries.items()
        if entry.offset % 2 and entry.many * np.dtype(tags.FIELD_TYPES[entry.type]).itemsize > 8
    ]
    yield _item("TIFF", "values begin on even bytes", odd, "all of them")
    subs = [d for d in directories for d in sub_directories(d)]
    if subs:
        yield RuleItem("TIFF", "sub-directories can be read", GOOD, f"{len(subs)}")


def _image(image: _Image) -> Iterator[RuleItem]:
    directory, layout, name = image.directory, image.layout, f"image {image.directory.number + 1}"
    faults = []
    bits = directory.values(tags.BITS_PER_SAMPLE)
    if len(bits) not in (0, 1, layout.samples):
        faults.append(f"{len(bits)} bit depths for {layout.samples} samples")
    photometric = directory.number_of(tags.PHOTOMETRIC, -1)
    colours = {tags.RGB: 3, tags.YCBCR: 3, tags.CIELAB: 3, tags.CMYK: 4}.get(photometric, 1)
    if photometric < 0:
        faults.append("no photometric interpretation")
    if layout.samples < colours:
        faults.append(f"{layout.samples} samples for a picture of {colours} colours")
    extra = len(directory.values(tags.EXTRA_SAMPLES))
    if layout.samples > colours and extra != layout.samples - colours:
        faults.append(f"{layout.samples - colours} samples more than colours, {extra} of them explained")
    if photometric == tags.PALETTE and len(directory.values(tags.COLOUR_MAP)) != 3 * 2**layout.coding.bits:
        faults.append(f"a colour map of {len(directory.values(tags.COLOUR_MAP))} values")
    if layout.tiled and (layout.rows % 16 or layout.columns % 16):
        faults.append(f"tiles of {layout.columns} x {layout.rows}, no multiples of 16")
    kind = "mask of " if image.kind & tags.MASK else "reduced, " if image.kind & tags.REDUCED else ""
    yield _item("TIFF", f"{name} is described soundly", faults, f"{kind}{image.size}, {layout.compression}")


def _segments(path: Readable, images: Sequence[_Image]) -> RuleItem:
    """Whether every stored segment lies in the file, apart from the others, and decodes."""
    places = np.concatenate([np.stack([i.layout.offsets, i.layout.counts], axis=1) for i in images])
    places = places[places[:, 1] > 0]
    places = places[np.argsort(places[:, 0], kind="stable")]
    faults = []
    if len(places) and (places[:, 0] + places[:, 1]).max() > file_handles.renew(path).size:
        faults.append("a segment reaches past the end of the file")
    over = np.flatnonzero(places[1:, 0] < places[:-1, 0] + places[:-1, 1])
    if over.size:
        faults.append(f"segments overlap at byte {int(places[over[0] + 1, 0]):,}")
    faults += list(_undecodable(path))
    return _item("TIFF", "every segment lies apart and decodes", faults, f"{len(places):,} segments")


def _undecodable(path: Readable) -> Iterator[str]:
    try:
        full = open_tiff(path)
        views = [full, *(full.coarser(2.0**n) for n in range(1, 20))]
        seen: set[int] = set()
        for view in views:
            columns = view.frame.columns
            if columns in seen:
                continue
            seen.add(columns)
            for pane in blocks_of(view):
                view.cells(pane)
    except ZembrelError as exc:
        yield exc.why


def _geo(image: _Image) -> Iterator[RuleItem]:
    directory = image.directory
    keys = directory.values(tags.GEO_KEY_DIRECTORY)
    if not len(keys):
        yield RuleItem("GeoTIFF", "it has a key directory", NOTE, "none: a plain TIFF")
        return
    version = ".".join(map(str, keys[:3].tolist()))
    sound = len(keys) >= 4 and int(keys[0]) == 1 and int(keys[1]) == 1 and len(keys) >= 4 + 4 * int(keys[3])
    yield RuleItem("GeoTIFF", "the key directory is whole", GOOD if sound else FAULT, f"version {version}")
    if not sound:
        return
    rows = keys[4 : 4 + 4 * int(keys[3])].reshape(-1, 4).tolist()
    order = [key for key, *_ in rows]
    faults = [] if order == sorted(order) else ["keys out of order"]
    sizes = {0: 1, **{tag: len(directory.values(tag)) for tag in (34736, 34737)}}
    faults += [
        f"key {key} points past the values of tag {place}"
        for key, place, count, at in rows
        if place and (place not in sizes or at + count > sizes[place])
    ]
    yield _item("GeoTIFF", "keys are sorted and point at their values", faults, f"{len(rows)} keys")
    yield _placed(directory)
    yield _system(image)


def _placed(directory: Directory) -> RuleItem:
    scale, ties = len(directory.values(tags.MODEL_PIXEL_SCALE)), len(directory.values(tags.MODEL_TIEPOINT))
    matrix = len(directory.values(tags.MODEL_TRANSFORMATION))
    faults = []
    if matrix and scale:
        faults.append("both a scale and a matrix")
    if matrix not in (0, 16) or scale not in (0, 3) or ties % 6:
        faults.append(f"a matrix of {matrix}, a scale of {scale}, tie points of {ties} values")
    if not matrix and not (scale and ties) and ties < 18:
        faults.append("no place: neither scale and tie point nor matrix")
    way = "matrix" if matrix else "scale and tie point" if scale else f"{ties // 6} tie points"
    return _item("GeoTIFF", "one way to place the cells", faults, way)


def _system(image: _Image) -> RuleItem:
    try:
        frame = geokeys.read_frame(image.directory, image.layout.width, image.layout.height)
    except ZembrelError as exc:
        return RuleItem("GeoTIFF", "the CRS can be made out", FAULT, exc.why)
    crs = None if frame is None else frame.crs
    known = crs is not None and not isinstance(crs, UnresolvedCRS)
    found = "none" if crs is None else crs.name
    return RuleItem("GeoTIFF", "the CRS can be made out", GOOD if known else FAULT, found)


def _cloud(images: Sequence[_Image]) -> Iterator[RuleItem]:
    full = images[0]
    longest = max(full.layout.width, full.layout.height)
    big = longest > OVERVIEWS_FROM
    reduced = [i for i in images[1:] if i.kind & tags.REDUCED and not i.kind & tags.MASK]
    yield _judged("the image is tiled", full.layout.tiled or not big, _cut(full.layout))
    yield _judged(
        "there are overviews",
        bool(reduced) or not big,
        f"{len(reduced)}, the image is {longest:,} cells long",
    )
    sizes = [full.layout, *(image.layout for image in reduced)]
    halves = [abs(2 * b.width / a.width - 1) < _HALF + 2 / a.width for a, b in pairwise(sizes)]
    if reduced:
        shown = ", ".join(f"{layout.width:,}" for layout in sizes)
        yield _judged("each overview has half the size of the one before", all(halves), shown)
        yield _judged("overviews are tiled", all(i.layout.tiled for i in reduced), _cut(reduced[0].layout))
    ends = [entry.offset for image in images for entry in image.directory.entries.values()]
    starts = [int(i.layout.offsets[i.layout.counts > 0].min()) for i in images if (i.layout.counts > 0).any()]
    if starts:
        ahead = max(ends) < min(starts)
        yield _judged("all directories stand before all cells", ahead, f"cells begin at byte {min(starts):,}")
    firsts = [
        int(i.layout.offsets[i.layout.counts > 0].min())
        for i in [full, *reduced]
        if (i.layout.counts > 0).any()
    ]
    if reduced:
        backwards = firsts == sorted(firsts, reverse=True)
        yield _judged("cells of small overviews stand before larger ones", backwards, "by their offsets")


def _judged(rule: str, good: bool, found: str) -> RuleItem:
    return RuleItem("COG", rule, GOOD if good else FAULT, found)


def _cut(layout: SegmentLayout) -> str:
    return f"tiles of {layout.columns} x {layout.rows}" if layout.tiled else f"strips of {layout.rows} rows"


STANDARDS = ("tiff", "geotiff", "cog")
CHECKS: dict[str, Callable[[Readable], list[RuleItem]]] = {"geotiff": check_tiff}
