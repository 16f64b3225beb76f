"""The point file that a verb makes: its layout, scaling and packing, as the options and the format say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.geodesy.crs import CRS
from zembrel.inputs.options import Output
from zembrel.points.files import check_name
from zembrel.points.files.catalogue import format_of
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointSource, Scaling
from zembrel.points.records import FORMATS, Layout
from zembrel.points.restated import las_of

SETTINGS = {
    "format": "point format, 0 to 10; that of the input",
    "version": "1.2, 1.3 or 1.4; the least that holds the points, or that of the input",
    "scale": "step of stored coordinates, or three: 0.001 or 0.01/0.01/0.001; that of the input",
    "chunk": "points packed together; 50000",
}
_COPC = {0: 6, 1: 6, 2: 7, 3: 7, 4: 6, 5: 7, 9: 6, 10: 8}  # the format that holds most of another
_PACKED = 0.45  # of a record: more than chunks of any survey seen here took
_WORDS = 11  # bytes of a value as text


def new_file(
    source: PointSource,
    final: Path,
    output: Output,
    *,
    layout: Layout | None = None,
    scaling: Scaling | None = None,
    crs: CRS | None = None,
    columns: str | None = None,
) -> NewFile:
    """A file like `source`, but for what is given. Raises UsageError for settings that make no sense."""
    check_name(final)
    settings = output.format_settings
    unknown = next((key for key in settings if key not in SETTINGS), None)
    if unknown:
        raise UsageError(
            f"--set {unknown}", "point files have no such setting", nearest_name(unknown, SETTINGS)
        )
    cloud, form = source.cloud, format_of(final)
    layout = _layout(layout or cloud.layout, settings, form)
    if settings.get("scale"):
        scaling = _scaled(scaling or cloud.scaling, settings["scale"], cloud.crs)
    like = las_of(source) if form in ("las", "laz", "copc") else None
    version = _version(settings["version"], layout) if "version" in settings else None
    chunk = _whole(settings.get("chunk", "50000"), "chunk", 1, 10_000_000)
    names = tuple(columns.split(",")) if columns else None
    for name in names or ():
        if name not in layout.names:
            raise InputError(
                f"points have no {name!r}",
                f"they have {', '.join(layout.names)}",
                nearest_name(name, layout.names),
            )
    return NewFile(
        layout, scaling or cloud.scaling, crs or cloud.crs, form == "laz", cloud.count, version, chunk, like,
        columns=names,
    )  # fmt: skip


def _layout(layout: Layout, settings: Mapping[str, str], form: str | None) -> Layout:
    if "format" in settings:
        number = _whole(settings["format"], "format", 0, len(FORMATS) - 1)
        if form == "copc" and number not in (6, 7, 8):
            raise UsageError(
                f"--set format={number}", "a cloud-optimized file has 6, 7 or 8", "choose one of them"
            )
        return Layout(number, layout.extra)
    return Layout(_COPC.get(layout.format, layout.format), layout.extra) if form == "copc" else layout


def _whole(text: str, key: str, low: int, high: int) -> int:
    if not text.isdigit() or not low <= int(text) <= high:
        raise UsageError(f"--set {key}={text}", f"{low} to {high:,} are possible", f"write --set {key}={low}")
    return int(text)


def _version(text: str, layout: Layout) -> tuple[int, int]:
    if text not in ("1.2", "1.3", "1.4"):
        raise UsageError(f"--set version={text}", "1.2, 1.3 and 1.4 are written", "write --set version=1.4")
    least = "1.4" if layout.long else "1.3" if layout.has_waves else "1.2"
    if text < least:
        raise UsageError(
            f"--set version={text}",
            f"points of format {layout.format} need {least} at least",
            f"add --set format={1 if least == '1.4' else 3}, or leave the version out",
        )
    return 1, int(text[2])


def _scaled(scaling: Scaling, text: str, crs: CRS | None) -> Scaling:
    try:
        steps = [float(part) for part in text.split("/")]
    except ValueError:
        steps = []
    if len(steps) not in (1, 3) or any(not 1e-12 < step < 1e6 for step in steps):
        raise UsageError(f"--set scale={text}", "a step is needed, or three", "write --set scale=0.001")
    x, y, z = steps * 3 if len(steps) == 1 else steps
    return Scaling((x, y, z), scaling.offset)


def bytes_at_most(new: NewFile, count: int, sources: Sequence[PointSource], final: Path) -> int:
    """Bytes that a file of `count` points takes: exactly for LAS, roughly for packed files and text."""
    form, record = format_of(final), new.layout.dtype.itemsize
    plain = 4096 + count * record
    if form == "las":
        return plain
    if form in ("laz", "copc"):
        packed = [las for las in map(las_of, sources) if las is not None and las.header.compressed]
        known = sum(len(las.data) for las in packed) * 1.2
        return int(4096 + (known if len(packed) == len(sources) else plain * _PACKED)) + (
            plain if form == "copc" else 0
        )
    values = len(new.columns or new.layout.names)
    return 4096 + count * (8 if form != "pointtext" else _WORDS) * values
