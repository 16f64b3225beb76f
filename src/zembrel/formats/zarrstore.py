"""Zarr stores, versions 2 and 3 (folders in `.zarr`, or one file in `.zarr.zip`), with CF attributes.

Source: Zarr specifications version 2 and version 3, by way of the zarr package; CF 1.11 (see `cf`);
dimension names as in version 3, and as the attribute `_ARRAY_DIMENSIONS` in version 2; `multiscales` as a
list of `datasets` with `path` and `scale`. Bands are arrays of the root group in chunks of 512 x 512;
overviews are groups 1, 2, ... of half the size each.
"""

from __future__ import annotations

import base64
import math
import shutil
import struct
import warnings
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError, UsageError
from zembrel.formats.cf.attributes import band_attributes
from zembrel.formats.cf.axes import BANDS, FRAME, axes_of, frame_text
from zembrel.formats.cf.dataset import GriddedRaster, layer_names, open_dataset
from zembrel.formats.cf.gridmapping import mapping_attributes
from zembrel.formats.cf.layout import EDGE, spreads_of, written_variables
from zembrel.formats.cf.variables import DECODE_ERRORS, Variable, Variables
from zembrel.formats.sink import Sink
from zembrel.formats.voids import filled, void_of
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.halving import halved_by_band, overview_methods
from zembrel.raster.model import Band, Block, Cells, Mask, Raster, has_alpha

_CHUNK, _SMALLEST = 512, 512
_DIMENSIONS = "_ARRAY_DIMENSIONS"


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid `layer` of the store, `NAME`, `GROUP/NAME` or `NAME[time=2026-05-01]`. Raises InputError."""
    root, variables = _variables(path)
    own = dict(root.attrs)
    if layer is None:
        shown = {name: v for name, v in variables.items() if not name.partition("/")[0].isdigit()}
        base = open_dataset(path, shown or variables, own, None)
        scales = _scales(root)
        return ScaledRaster(base, path, tuple(scales)) if scales else base
    return open_dataset(path, variables, own, layer)


def layers(path: Path) -> list[str]:
    return [name for name in layer_names(_variables(path)[1]) if not name.partition("/")[0].isdigit()]


def _root(path: Path) -> Any:
    import zarr

    try:
        store = (
            zarr.storage.ZipStore(path, mode="r")
            if path.is_file()
            else zarr.storage.LocalStore(path, read_only=True)
        )
        return zarr.open(store, mode="r")
    except Exception as exc:  # the package raises errors of many kinds for stores that are not whole
        raise InputError(
            f"{path} is no sound Zarr store",
            f"{exc}".splitlines()[0] if f"{exc}" else type(exc).__name__,
            "get it again",
        ) from exc


def _variables(path: Path) -> tuple[Any, Variables]:
    import zarr

    root = _root(path)
    found: dict[str, Variable] = {}
    if isinstance(root, zarr.Array):
        found[path.stem] = _variable(path.stem, root)
        return root, found
    try:
        for name, member in root.members(max_depth=None):
            if isinstance(member, zarr.Array):
                found[name] = _variable(name, member)
    except DECODE_ERRORS as exc:
        raise InputError(f"{path} is broken", f"{exc}".splitlines()[0], "get it again") from exc
    return root, found


def _variable(name: str, array: Any) -> Variable:
    attributes = dict(array.attrs)
    named = getattr(array.metadata, "dimension_names", None) or attributes.get(_DIMENSIONS)
    dimensions = tuple(named) if named else tuple(f"axis{n + 1}" for n in range(array.ndim))
    if array.metadata.zarr_format == 2 and array.fill_value is not None:
        attributes.setdefault("_FillValue", array.fill_value)
    elif isinstance(attributes.get("_FillValue"), str):  # eight bytes of a float, as text
        attributes["_FillValue"] = _float_of(attributes["_FillValue"])
    return Variable(name, dimensions, array.shape, array.dtype, attributes, partial(_part, array))


def _float_of(text: str) -> float:
    try:
        return float(struct.unpack("<d", base64.standard_b64decode(text))[0])
    except (ValueError, struct.error):
        return math.nan


def _part(array: Any, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    return np.asarray(array[index])


def _scales(root: Any) -> list[tuple[str, float]]:
    """Paths of overviews, and how many times larger their cells are."""
    listed = root.attrs.get("multiscales") or [{}]
    found = []
    for held in listed[0].get("datasets", []) if isinstance(listed, list) else []:
        name, scale = str(held.get("path", "")), held.get("scale")
        if name not in ("", ".") and isinstance(scale, int | float) and scale > 1 and name in root:
            found.append((name, float(scale)))
    return sorted(found, key=lambda entry: entry[1])


@dataclass(frozen=True, eq=False)
class ScaledRaster:
    """A grid of a store that holds overviews of it as well."""

    base: GriddedRaster
    path: Path
    scales: tuple[tuple[str, float], ...]

    @property
    def frame(self) -> Frame:
        return self.base.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.base.bands

    @property
    def remarks(self) -> tuple[str, ...]:
        return self.base.remarks

    @property
    def reduced(self) -> tuple[tuple[str, float], ...]:
        return self.scales

    def cells(self, pane: Pane) -> Block:
        return self.base.cells(pane)

    def coarser(self, step: float) -> Raster:
        """The coarsest overview whose cells are at most `step` times as large as these."""
        fitting = [name for name, scale in self.scales if scale <= step]
        if not fitting:
            return self
        root, variables = _variables(self.path)
        group = {n.partition("/")[2]: v for n, v in variables.items() if n.startswith(f"{fitting[-1]}/")}
        return open_dataset(self.path, group, dict(root[fitting[-1]].attrs), None)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a store. Raises UsageError for a turned frame or a setting out of range."""
    if not frame.north_up:
        raise UsageError(
            f"{path.name} would be turned",
            "axes of coordinates lie north up",
            "reproject it onto a frame first",
        )
    version, overviews = settings.get("version", "3"), settings.get("overviews", "auto").lower()
    if version not in ("2", "3"):
        raise UsageError(f"version={version} is none", "Zarr has versions 2 and 3", "write version=3")
    usual = "mode" if any(band.categorical for band in bands) else "mean"
    methods = overview_methods(overviews, bands, usual)
    store = ZarrStore(path, frame, bands, int(version), methods)
    return Sink(tuple(frame.pane.blocks(2 * _CHUNK, 2 * _CHUNK)), store.encoder(methods), store)


@dataclass(frozen=True)
class ZarrEncoder:
    """Chunks of the arrays of bands, as they lie in a store, and cells of overviews, halved in passing.

    arrays: name of the array of each band, and its place in it; described: each array as the store does.
    """

    bands: tuple[Band, ...]
    methods: tuple[str, ...]
    halvings: int
    arrays: tuple[tuple[str, tuple[int, ...]], ...]
    described: Mapping[str, bytes]

    def encode(self, pane: Pane, block: Block) -> tuple[dict[str, bytes], list[Cells]]:
        """Bytes by key, and the cells of each overview."""
        valid: Mask | None = None if block.valid is None else block.valid.reshape(-1, *block.cells.shape[1:])
        cells = self._filled(block.cells, valid)
        chunks = self._chunks(pane, cells)
        levels = []
        for _ in range(self.halvings):
            cells, valid = halved_by_band(cells, valid, self.methods, opacity=has_alpha(self.bands))
            cells = self._filled(cells, valid)
            levels.append(cells)
        return chunks, levels

    def _chunks(self, pane: Pane, cells: Cells) -> dict[str, bytes]:
        """What a store in memory holds of the arrays after the cells of `pane` are put into them."""
        import zarr
        from zarr.core.buffer import default_buffer_prototype

        made = default_buffer_prototype().buffer.from_bytes
        held = {key: made(text) for key, text in self.described.items()}
        store = zarr.storage.MemoryStore(held)
        for layer, (name, index) in zip(cells, self.arrays, strict=True):
            array = zarr.open_array(store, path=name, mode="r+")
            array[(*index, slice(pane.top, pane.bottom), slice(pane.left, pane.right))] = layer
        return {key: part.to_bytes() for key, part in held.items() if key not in self.described}

    def _filled(self, cells: Cells, valid: Mask | None) -> Cells:
        return filled(Block(cells, _joint(valid)), void_of(self.bands), "a Zarr array")


class ZarrStore:
    """The arrays of a store; those of overviews are written as their cells come."""

    def __init__(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], version: int, overviews: tuple[str, ...]
    ) -> None:
        import zarr

        self._bands, self._path = bands, path
        self._folder = path.with_name(path.name + ".folder") if path.suffix == ".zip" else path
        self._store = zarr.storage.LocalStore(self._folder)
        frames = [frame]
        while overviews and frames[-1].longest > _SMALLEST:
            frames.append(_halved_frame(frames[-1]))
        listed = [{"path": str(n) if n else ".", "scale": 2**n} for n in range(len(frames))]
        scales = {
            "version": "0.4",
            "name": path.stem,
            "type": ",".join(dict.fromkeys(overviews)),
            "datasets": listed,
        }
        more = {"multiscales": [scales]} if len(frames) > 1 else {}
        self._levels = [
            self._level(str(n) if n else "", own, version, {} if n else more) for n, own in enumerate(frames)
        ]

    def _level(
        self, group: str, frame: Frame, version: int, more: dict[str, Any]
    ) -> dict[int, tuple[Any, tuple[int, ...]]]:
        """The array of each band of one level, and its place in it; axes and grid mapping stand beside."""
        import zarr

        rows, columns = axes_of(frame)
        written = written_variables(self._bands, (rows.name, columns.name, "crs"))
        facts = {
            "Conventions": "CF-1.11",
            "title": self._path.stem,
            "history": "written by zembrel",
            FRAME: frame_text(frame),
            BANDS: " ".join(variable.name for variable in written),
        }
        zarr.create_group(self._store, path=group, zarr_format=version, attributes=facts | more)
        place = ZarrGroup(self._store, group, version)
        mapping = mapping_attributes(frame.crs) if frame.crs is not None else {}
        if mapping:
            place.whole("crs", (), np.int32(0), mapping)
        for axis in (rows, columns):
            place.axis(axis.name, axis.values, axis.edges, axis.attributes)
        for spread in spreads_of(written):
            if spread.attributes is not None:
                place.axis(spread.name, spread.values, spread.edges, spread.attributes)
        made: dict[int, tuple[Any, tuple[int, ...]]] = {}
        for variable in written:
            band, void = variable.band, void_of((variable.band,))
            shape = frame.rows, frame.columns
            array = place.array(
                variable.name,
                (*(spread.name for spread in variable.spread), rows.name, columns.name),
                band_attributes(band, "crs" if mapping else None) | {"long_name": variable.name},
                shape=(*(spread.values.size for spread in variable.spread), *shape),
                chunks=(*(1 for _ in variable.spread), *(min(_CHUNK, side) for side in shape)),
                dtype=band.dtype,
                fill_value=void if void is not None or version == 2 else 0,
            )
            made |= {n: (array, index) for n, index in variable.places.items()}
        return made

    def encoder(self, methods: tuple[str, ...]) -> ZarrEncoder:
        """What makes the entries of this store."""
        level = self._levels[0]
        arrays = tuple((level[n][0].path, level[n][1]) for n in range(len(self._bands)))
        described = {
            key: (self._folder / key).read_bytes()
            for name in dict(arrays)
            for key in (f"{name}/zarr.json", f"{name}/.zarray", f"{name}/.zattrs")
            if (self._folder / key).is_file()
        }
        return ZarrEncoder(self._bands, methods, len(self._levels) - 1, arrays, described)

    def append(self, key: Pane, encoded: tuple[dict[str, bytes], list[Cells]]) -> None:
        chunks, levels = encoded
        for name, data in chunks.items():
            file = self._folder / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(data)
        for number, cells in enumerate(levels, 1):
            top, left = key.top >> number, key.left >> number
            rows, columns = slice(top, top + cells.shape[1]), slice(left, left + cells.shape[2])
            for n, (array, index) in self._levels[number].items():
                array[(*index, rows, columns)] = cells[n]

    def finish(self) -> None:
        import zarr

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # version 3 has no word for it yet; readers look for it
            zarr.consolidate_metadata(self._store)
        self._store.close()
        if self._folder != self._path:
            with zipfile.ZipFile(self._path, "w", zipfile.ZIP_STORED) as file:
                for inner in sorted(p for p in self._folder.rglob("*") if p.is_file()):
                    entry = zipfile.ZipInfo(inner.relative_to(self._folder).as_posix())  # without a time
                    file.writestr(entry, inner.read_bytes())
            shutil.rmtree(self._folder)

    def abort(self) -> None:
        self._store.close()


class ZarrGroup(NamedTuple):
    """A group of a store in the making, and the version it is written in."""

    store: Any
    group: str
    version: int

    def array(self, name: str, dimensions: tuple[str, ...], attributes: dict[str, Any], **shape: Any) -> Any:
        """A new array with its attributes."""
        import zarr

        known = _plain(attributes, self.version)
        named = {"dimension_names": dimensions} if self.version == 3 else {}
        if self.version == 2:
            known[_DIMENSIONS] = list(dimensions)
        full = f"{self.group}/{name}".lstrip("/")
        return zarr.create_array(
            self.store, name=full, zarr_format=self.version, attributes=known, **named, **shape
        )

    def axis(self, name: str, values: Any, edges: Any, attributes: Mapping[str, Any]) -> None:
        """A coordinate, and where its cells begin and end if that is known (CF 1.11, 7.1)."""
        bounds = f"{name}_bounds"
        self.whole(name, (name,), values, {**attributes, **({"bounds": bounds} if edges is not None else {})})
        if edges is not None:
            self.whole(bounds, (name, EDGE), edges, {k: v for k, v in attributes.items() if k == "units"})

    def whole(self, name: str, dimensions: tuple[str, ...], values: Any, attributes: dict[str, Any]) -> None:
        """A small array, stored at once."""
        values = np.asarray(values)
        shape = {"shape": values.shape, "dtype": values.dtype, "chunks": values.shape or "auto"}
        if self.version == 2:  # there a fill value would say that 0 means nothing
            shape["fill_value"] = None
        array = self.array(name, dimensions, attributes, **shape)
        array[...] = values


def _joint(valid: Mask | None) -> Mask | None:
    return valid[0] if valid is not None and len(valid) == 1 else valid


def _halved_frame(frame: Frame) -> Frame:
    a = frame.affine
    affine = Affine(a.x0, a.y0, 2 * a.x_col, 2 * a.y_row)
    if frame.registration == "node":  # four nodes become the middle of a cell
        corner = frame.corners
        affine = Affine(corner.x0, corner.y0, 2 * a.x_col, 2 * a.y_row)
    return Frame(frame.crs, affine, -(-frame.columns // 2), -(-frame.rows // 2))


def _plain(attributes: Mapping[str, Any], version: int) -> dict[str, Any]:
    """Attributes as JSON can hold them; `_FillValue` as readers of each version look for it."""
    found: dict[str, Any] = {}
    for key, value in attributes.items():
        if isinstance(value, np.ndarray):
            value = value.tolist()
        elif isinstance(value, np.generic):
            value = value.item()
        if key == "_FillValue":
            if version == 2:  # there it is that of the array
                continue
            if isinstance(value, float):
                value = base64.standard_b64encode(struct.pack("<d", value)).decode()
        found[key] = value
    return found
