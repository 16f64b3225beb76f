"""Zarr stores written: chunks as a store in memory makes them, overviews halved from blocks in passing."""

from __future__ import annotations

import base64
import shutil
import struct
import warnings
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.formats.cf.attributes import band_attributes
from zembrel.formats.cf.axes import BANDS, FRAME, axes_of, frame_text
from zembrel.formats.cf.cflayout import EDGE, spreads_of, written_variables
from zembrel.formats.cf.gridmapping import mapping_attributes
from zembrel.formats.voids import filled, void_of
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.provenance import KEY, document
from zembrel.raster.halving import halved_by_band
from zembrel.raster.model import Band, Block, Cells, Mask, has_alpha

CHUNK, _SMALLEST = 512, 512
DIMENSIONS = "_ARRAY_DIMENSIONS"  # in place of names of dimensions, in version 2


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
            **({KEY: told} if not group and (told := document()) is not None else {}),
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
                chunks=(*(1 for _ in variable.spread), *(min(CHUNK, side) for side in shape)),
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
            known[DIMENSIONS] = list(dimensions)
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
