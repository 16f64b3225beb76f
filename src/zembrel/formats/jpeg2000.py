"""JPEG 2000 pictures (`.jp2`), with their place in a box of the file.

Sources: ISO/IEC 15444-1, annex I (boxes), and 15444-2, annex M (association and label boxes); "GeoTIFF in
JPEG 2000": a uuid box that holds a GeoTIFF of one cell; OGC 05-047r3, "GML in JPEG 2000": a rectified grid.
The GeoTIFF counts where both are there. Cells are kept exactly unless `quality`, in decibels, is given.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, NamedTuple
from xml.sax.saxutils import escape

import numpy as np

from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.formats.sidecars import placed_in
from zembrel.formats.sink import Sink
from zembrel.formats.tiff.encoding import Options
from zembrel.formats.tiff.sink import tiff_sink
from zembrel.formats.tiff.tiffopening import open_tiff
from zembrel.formats.whole import WholeRaster, only_layer, whole_sink
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.handles import file_handles
from zembrel.owned import temporary
from zembrel.raster.model import ALPHA, Band, Block, Cells, Raster, has_alpha, shared_type

_MARK = b"\x00\x00\x00\x0cjP  \r\n\x87\n"
_GEOTIFF = bytes.fromhex("b14bf8bd083d4b43a5ae8cd7d5a6ce03")
_MOST_BOX, _MOST_BOXES = 16_000_000, 10_000
_NAMES = {1: ("grey",), 3: ("red", "green", "blue")}

layers = only_layer


class FileBox(NamedTuple):
    """A box of the file: type, first byte and size of its content."""

    type: bytes
    start: int
    size: int


def open_raster(path: Path, layer: str | None) -> Raster:
    """The picture at `path`, placed by its boxes or what lies beside it. Raises InputError."""
    stamp = file_handles.renew(path)
    boxes = list(_boxes(path, 0, stamp.size))
    header = next((b for b in boxes if b.type == b"jp2h"), None)
    shape = next((b for b in _inside(path, header) if b.type == b"ihdr"), None) if header else None
    if shape is None or shape.size < 14:
        raise _broken(path, "it has no header of its image")
    rows, columns, count, bits = struct.unpack(">IIHB", file_handles.read(path, shape.start, 11))
    if not (rows and columns and count) or rows * columns * count > 4_000_000_000:
        raise _broken(path, f"it claims {columns:,} x {rows:,} cells of {count} bands")
    depth, signed = (bits & 0x7F) + 1, bool(bits & 0x80)
    if bits == 255 or depth > 16:
        raise _broken(path, "its bands are of unlike or more than 16 bits")
    kind = f"{'' if signed else 'u'}int{8 if depth <= 8 else 16}"
    own, nodata = _own_place(path, boxes, columns, rows)
    placed = placed_in(own, path, columns, rows)
    assert header is not None
    alpha = _last_is_opacity(path, header, count)
    names = _NAMES.get(count - alpha) or tuple(f"band{n + 1}" for n in range(count - alpha))
    bands = tuple(Band(n, kind, nodata, colour=n if count - alpha in _NAMES else "") for n in names)
    bands = (*bands, Band(ALPHA, kind, colour=ALPHA)) if alpha else bands
    return WholeRaster(path, placed.frame, bands, _decode, placed.remarks)


def _boxes(path: Path, start: int, end: int) -> Iterator[FileBox]:
    """The boxes between two bytes (15444-1, I.4). Raises InputError for one that ends beyond."""
    for _ in range(_MOST_BOXES):
        if start + 8 > end:
            return
        head = file_handles.read(path, start, 16)
        if len(head) < 8:
            return
        length, kind, lead = struct.unpack(">I", head[:4])[0], head[4:8], 8
        if length == 1 and len(head) == 16:
            length, lead = struct.unpack(">Q", head[8:16])[0], 16
        length = length or end - start
        if length < lead or start + length > end:
            raise _broken(path, f"its box {kind!r} at byte {start:,} runs past the end")
        yield FileBox(kind, start + lead, length - lead)
        start += length


def _inside(path: Path, box: FileBox) -> Iterator[FileBox]:
    return _boxes(path, box.start, box.start + box.size)


def _last_is_opacity(path: Path, header: FileBox, count: int) -> bool:
    """Whether the channel definition (15444-1, I.5.3.6) says so of the last channel."""
    box = next((b for b in _inside(path, header) if b.type == b"cdef"), None)
    if box is None or box.size < 2 + 6 * count:
        return False
    words = struct.unpack(f">{3 * count}H", file_handles.read(path, box.start + 2, 6 * count))
    return any(words[n] == count - 1 and words[n + 1] == 1 for n in range(0, len(words), 3))


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound JPEG 2000 file", why, "get the file again, or leave it out")


def _own_place(
    path: Path, boxes: list[FileBox], columns: int, rows: int
) -> tuple[Frame | None, float | int | None]:
    """The frame that boxes give, and nodata; a box that cannot be understood gives none."""
    for box in boxes:
        if box.type == b"uuid" and 16 < box.size < _MOST_BOX:
            content = file_handles.read(path, box.start, box.size)
            if content[:16] == _GEOTIFF:
                found = _of_geotiff(content[16:])
                if found is not None:
                    one, nodata = found
                    return Frame(one.crs, one.affine, columns, rows, one.registration), nodata
    for box in boxes:
        if box.type == b"asoc":
            frame = _of_gml(path, box, columns, rows)
            if frame is not None:
                return frame, None
    return None, None


def _of_geotiff(content: bytes) -> tuple[Frame, float | int | None] | None:
    folder = temporary()
    inner = folder.path / "place.tif"
    inner.write_bytes(content)
    try:
        found = open_tiff(inner)
    except ZembrelError:
        return None
    finally:
        folder.remove()
    placed = found.frame.crs is not None or found.frame.affine != Affine(0.0, 0.0, 1.0, -1.0)
    return (found.frame, found.bands[0].nodata) if placed else None


def _of_gml(path: Path, box: FileBox, columns: int, rows: int) -> Frame | None:
    """The rectified grid of an association: origin in the middle of the first cell, and two offsets."""
    from defusedxml import ElementTree

    for inner in _inside(path, box):
        if inner.type == b"asoc":
            found = _of_gml(path, inner, columns, rows)
            if found is not None:
                return found
        if inner.type != b"xml " or inner.size > _MOST_BOX:
            continue
        try:
            text = file_handles.read(path, inner.start, inner.size).rstrip(b"\0")
            root = ElementTree.fromstring(text)
            nodes = {str(node.tag).rpartition("}")[2]: node for node in root.iter()}
            grid = nodes["RectifiedGrid"]
            name = grid.get("srsName") or nodes["Point"].get("srsName") or ""
            pos = nodes["pos"] if "pos" in nodes else nodes["coordinates"]
            x, y = _pair(pos.text)
            offsets = [_pair(node.text) for node in grid.iter() if str(node.tag).endswith("offsetVector")]
            crs = _crs(name)
        except (ElementTree.ParseError, KeyError, ValueError, IndexError):
            continue
        (x_col, y_col), (x_row, y_row) = offsets[:2]
        if crs is not None and crs.axes[0] == "north" and name.startswith("urn:"):
            x, y, x_col, y_col, x_row, y_row = y, x, y_col, x_col, y_row, x_row
        a = Affine(x, y, x_col, y_row, x_row, y_col)
        corner = Affine(x - (x_col + x_row) / 2, y - (y_col + y_row) / 2, a.x_col, a.y_row, a.x_row, a.y_col)
        return Frame(crs, corner, columns, rows)
    return None


def _pair(text: Any) -> tuple[float, float]:
    x, y = (float(word) for word in str(text).replace(",", " ").split()[:2])
    return x, y


def _crs(name: str) -> Any:
    code = name.rpartition(":")[2].rpartition("/")[2]
    return by_code(int(code)) if code.isdigit() else None


def _decode(path: Path) -> Cells:
    import imagecodecs

    try:
        cells: Cells = imagecodecs.jpeg2k_decode(path.read_bytes())
    except (imagecodecs.Jpeg2kError, ValueError, OSError) as exc:
        raise _broken(path, f"it does not decode: {exc}") from exc
    return cells[:, :, None] if cells.ndim == 2 else cells


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a picture with its place as GeoTIFF and, on whole rows, as GML. Raises UsageError."""
    text = settings.get("quality", "0")
    if not text.isdigit() or int(text) > 100:
        raise UsageError(f"quality={text} is out of range", "it is 1 to 100 dB", "write quality=45")

    def write(cells: Cells, valid: Cells | None) -> None:
        import imagecodecs

        kind = shared_type(bands)
        nodata = next((b.nodata for b in bands if b.nodata is not None), None)
        if has_alpha(bands):
            pass
        elif valid is not None and nodata is not None:
            cells = np.where(valid[:, :, None], cells, kind.type(nodata))
        elif valid is not None:
            shown = np.where(valid, np.iinfo(kind).max, 0)[:, :, None]
            cells = np.concatenate([np.where(valid[:, :, None], cells, 0), shown], axis=2).astype(kind)
        plain = np.ascontiguousarray(cells[:, :, 0] if cells.shape[2] == 1 else cells)
        data = imagecodecs.jpeg2k_encode(plain, level=int(text), codecformat="jp2", reversible=not int(text))
        opaque = cells.shape[2] > len(bands) or has_alpha(bands)
        data = _with_opacity(bytes(data), cells.shape[2]) if opaque else bytes(data)
        path.write_bytes(_with_place(data, path, frame, bands))

    return whole_sink(frame, bands, write)


def _with_opacity(data: bytes, count: int) -> bytes:
    """The file with a channel definition that makes the last of `count` channels opacity."""
    at = data.index(b"jp2h") - 4
    length = struct.unpack(">I", data[at : at + 4])[0]
    channels = [(n, 0, n + 1) for n in range(count - 1)] + [(count - 1, 1, 0)]
    words = [word for channel in channels for word in channel]
    box = _box(b"cdef", struct.pack(f">{1 + len(words)}H", count, *words))
    end = at + length
    return data[:at] + struct.pack(">I", length + len(box)) + data[at + 4 : end] + box + data[end:]


def _with_place(data: bytes, path: Path, frame: Frame, bands: tuple[Band, ...]) -> bytes:
    """The file with boxes of its place before the code stream."""
    if frame.crs is None and frame.affine == Affine(0.0, 0.0, 1.0, -1.0):
        return data
    at = 0
    while data[at + 4 : at + 8] != b"jp2c":
        at += struct.unpack(">I", data[at : at + 4])[0]
    place = _box(b"uuid", _GEOTIFF + _one_cell(path, frame, bands[0]))
    return data[:at] + place + _gml(frame) + data[at:]


def _box(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I", 8 + len(content)) + kind + content


def _one_cell(path: Path, frame: Frame, band: Band) -> bytes:
    """A GeoTIFF of one cell of the lattice of `frame`."""
    inner = path.with_name("place.tif")
    one = Frame(frame.crs, frame.affine, 1, 1, frame.registration)
    sink = tiff_sink(inner, one, (Band(band.name, band.type, band.nodata),), Options("none", strip=1))
    block = Block(np.zeros((1, 1, 1), band.dtype))
    for pane in sink.blocks:
        sink.store.append(pane, sink.encoder.encode(pane, block))
    sink.store.finish()
    content = inner.read_bytes()
    inner.unlink()
    return content


def _gml(frame: Frame) -> bytes:
    """The association of a rectified grid (05-047r3, 7), if the registry knows its CRS."""
    crs: CRS | None = frame.crs
    if crs is None or crs.code is None or not hasattr(crs, "axes"):
        return b""
    x, y = (float(v[0]) for v in frame.centres(np.zeros(1), np.zeros(1)))
    a = frame.affine
    pairs = [(x, y), (a.x_col, a.y_col), (a.x_row, a.y_row)]
    if crs.axes[0] == "north":
        pairs = [(second, first) for first, second in pairs]
    origin, across, down = (f"{first!r} {second!r}" for first, second in pairs)
    name = escape(f"urn:ogc:def:crs:EPSG::{crs.code}")
    text = (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<gml:FeatureCollection xmlns:gml="http://www.opengis.net/gml"><gml:featureMember>'
        '<gml:FeatureCollection><gml:featureMember><gml:RectifiedGridCoverage dimension="2">'
        f'<gml:rectifiedGridDomain><gml:RectifiedGrid dimension="2" srsName="{name}"><gml:limits>'
        f"<gml:GridEnvelope><gml:low>0 0</gml:low><gml:high>{frame.columns - 1} {frame.rows - 1}</gml:high>"
        "</gml:GridEnvelope></gml:limits><gml:axisName>x</gml:axisName><gml:axisName>y</gml:axisName>"
        f'<gml:origin><gml:Point srsName="{name}"><gml:pos>{origin}</gml:pos></gml:Point></gml:origin>'
        f'<gml:offsetVector srsName="{name}">{across}</gml:offsetVector>'
        f'<gml:offsetVector srsName="{name}">{down}</gml:offsetVector>'
        "</gml:RectifiedGrid></gml:rectifiedGridDomain><gml:rangeSet><gml:File>"
        "<gml:rangeParameters/><gml:fileName>gmljp2://codestream/0</gml:fileName>"
        "<gml:fileStructure>inapplicable</gml:fileStructure></gml:File></gml:rangeSet>"
        "</gml:RectifiedGridCoverage></gml:featureMember></gml:FeatureCollection></gml:featureMember>"
        "</gml:FeatureCollection>"
    )
    inner = _box(b"lbl ", b"gml.root-instance") + _box(b"xml ", text.encode())
    return _box(b"asoc", _box(b"lbl ", b"gml.data") + _box(b"asoc", inner))
