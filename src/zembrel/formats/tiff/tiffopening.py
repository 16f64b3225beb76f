"""Opening a TIFF: which of its directories, and of the files beside it, make up one image."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zembrel.errors import InputError
from zembrel.formats.sidecars import placed_in
from zembrel.formats.tiff import tags
from zembrel.formats.tiff.bands import read_bands
from zembrel.formats.tiff.colours import model_of
from zembrel.formats.tiff.directory import Directory, read_chain, read_directories, sub_directories
from zembrel.formats.tiff.geokeys import read_frame
from zembrel.formats.tiff.layout import SegmentLayout, read_layout
from zembrel.formats.tiff.reader import TiffRaster, mask_raster
from zembrel.grid.frame import Frame
from zembrel.handles import Readable
from zembrel.provenance import found
from zembrel.raster.model import ALPHA, Band

OVERVIEWS_BESIDE, MASK_BESIDE = ".ovr", ".msk"  # added to the image's whole name; only read


def layers_of(path: Readable) -> list[str]:
    """Names of the images of a TIFF that are not masks or reduced versions: `1`, `2` ..."""
    return [str(n) for n, _ in enumerate(_main_directories(read_directories(path)), 1)]


def _main_directories(directories: list[Directory]) -> list[Directory]:
    return [d for d in directories if not _kind(d) & (tags.REDUCED | tags.MASK)] or directories[:1]


def _kind(directory: Directory) -> int:
    return directory.number_of(tags.NEW_SUBFILE_TYPE, 0)


def open_tiff(path: Readable, layer: str | None = None) -> TiffRaster:
    """The image `layer` (default: the first) of the TIFF at `path`. Raises InputError."""
    directories, odd = read_chain(path)
    main = _main_directories(directories)
    if layer is not None and layer not in [str(n) for n in range(1, len(main) + 1)]:
        raise InputError(
            f"{path} has no layer {layer!r}",
            f"it holds {len(main)} image(s)",
            f"choose from 1 to {len(main)}",
        )
    directory = main[int(layer or 1) - 1]
    following = next((d.number for d in main if d.number > directory.number), len(directories))
    family = [*directories[directory.number + 1 : following], *sub_directories(directory)]
    layout = read_layout(directory)
    frame = read_frame(directory, layout.width, layout.height)
    frame, remarks = placed_in(frame, _file(path), layout.width, layout.height)
    model = model_of(layout.coding.shown, layout.samples, layout.dtype) if not layout.planar else None
    found(_file(path), directory.text(tags.IMAGE_DESCRIPTION))
    bands, alpha = read_bands(directory, layout, model)
    if directory is main[0]:
        family += _beside(_file(path), OVERVIEWS_BESIDE, layout)
    return TiffRaster(
        directory, layout, frame, bands, _alpha_last(bands), alpha,
        _mask(_file(path), family, layout, frame),
        tuple(d for d in family if _kind(d) & (tags.REDUCED | tags.MASK) == tags.REDUCED),
        tuple(d for d in family if _kind(d) & (tags.REDUCED | tags.MASK) == tags.REDUCED | tags.MASK),
        model,
        associated=alpha is not None and layout.dtype.kind == "u" and _associated(directory),
        remarks=(*odd, *remarks),
    )  # fmt: skip


def _file(place: Readable) -> Path:
    """Beside which file others may lie."""
    return place if isinstance(place, Path) else place.file


def _alpha_last(bands: tuple[Band, ...]) -> tuple[int, ...]:
    """The bands in the file's order, but opacity after all others."""
    return tuple(sorted(range(len(bands)), key=lambda n: bands[n].colour == ALPHA))


def _associated(directory: Directory) -> bool:
    return 1 in directory.values(tags.EXTRA_SAMPLES).tolist()


def _mask(path: Path, family: Sequence[Directory], layout: SegmentLayout, frame: Frame) -> TiffRaster | None:
    """The mask of the full image, in the file or beside it."""
    inside = [d for d in family if _kind(d) & (tags.REDUCED | tags.MASK) == tags.MASK]
    for directory in inside or _beside(path, MASK_BESIDE, layout):
        size = directory.number_of(tags.IMAGE_WIDTH, 0), directory.number_of(tags.IMAGE_LENGTH, 0)
        if size == (layout.width, layout.height):
            return mask_raster(directory, frame)
    return None


def _beside(path: Path, ending: str, layout: SegmentLayout) -> list[Directory]:
    """Directories of the TIFF of that name beside `path` whose images have the outline of this one."""
    other = Path(f"{path}{ending}")
    if not other.is_file():
        return []
    return [directory for directory in read_directories(other) if _same_outline(directory, layout)]


def _same_outline(directory: Directory, layout: SegmentLayout) -> bool:
    width, height = directory.number_of(tags.IMAGE_WIDTH, 0), directory.number_of(tags.IMAGE_LENGTH, 0)
    if not (0 < width <= layout.width and 0 < height <= layout.height):
        return False
    return abs(layout.height * width / layout.width - height) <= 1.0
