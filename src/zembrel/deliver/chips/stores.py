"""Where chips are kept: files in folders, one Zarr store, numbered tars, or records."""

from __future__ import annotations

import io
import json
import tarfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import numpy as np
import numpy.typing as npt

from zembrel.clock import time_of_writing
from zembrel.deliver.chips.records import example, read_records, write_record
from zembrel.engine.commit import Staging
from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats import load
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block

Cells = npt.NDArray[Any]
SHARD = 500_000_000  # bytes of a tar, about


@dataclass(frozen=True, eq=False)
class Chip:
    """A numbered square: image (bands, rows, columns), where it is valid, label (rows, columns) or None."""

    number: int
    split: str
    frame: Frame
    image: Cells
    valid: Cells | None
    label: Cells | None = None

    @property
    def name(self) -> str:
        return f"{self.number:06d}"

    @property
    def known(self) -> Cells:
        """Where the image is valid, (rows, columns), as 0 and 1."""
        shape = self.image.shape[1:]
        return np.ones(shape, np.uint8) if self.valid is None else self.valid.astype(np.uint8)


class ChipStore(Protocol):
    """A set of chips in the making; `put` says in which file a chip is."""

    def put(self, chip: Chip) -> str: ...
    def finish(self) -> None: ...
    def count(self) -> int:
        """How many are found when what was written is read again."""
        ...


@dataclass(frozen=True, eq=False)
class _Held:
    frame: Frame
    bands: tuple[Band, ...]
    block: Block

    def cells(self, pane: Pane) -> Block:
        rows, columns = pane.within(self.frame.pane)
        valid = self.block.valid
        return Block(self.block.cells[:, rows, columns], None if valid is None else valid[..., rows, columns])


class FolderChips:
    """`train/images/000001.tif` and `train/labels/000001.tif`, or `train/000001.npz`."""

    def __init__(self, folder: Path, form: str, bands: tuple[Band, ...], label: Band | None) -> None:
        self._folder, self._form, self._bands, self._label = folder, form, bands, label
        folder.mkdir(parents=True, exist_ok=True)

    def put(self, chip: Chip) -> str:
        if self._form == "npz":
            path = self._path(f"{chip.split}/{chip.name}.npz")
            held = {"image": chip.image, "valid": chip.known}
            held |= {} if chip.label is None else {"label": chip.label}
            np.savez_compressed(path, **held)  # type: ignore[arg-type]
            return str(path.relative_to(self._folder))
        path = self._path(f"{chip.split}/images/{chip.name}.tif")
        self._write(path, chip.frame, self._bands, Block(chip.image, chip.valid))
        if chip.label is not None and self._label is not None:
            label = self._path(f"{chip.split}/labels/{chip.name}.tif")
            self._write(label, chip.frame, (self._label,), Block(chip.label[None]))
        return str(path.relative_to(self._folder))

    def _path(self, name: str) -> Path:
        path = self._folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        return path

    def _write(self, path: Path, frame: Frame, bands: tuple[Band, ...], block: Block) -> None:
        sink = load("geotiff").make_sink(path, frame, bands, {"overviews": "no"})
        run(_Held(frame, bands, block), sink, Limits(workers=1))

    def finish(self) -> None: ...

    def count(self) -> int:
        found = list(self._folder.rglob("*.npz" if self._form == "npz" else "images/*.tif"))
        if self._form == "npz":
            return sum(np.load(path)["image"].ndim == 3 for path in found)
        return len(found)


class ZarrChips:
    """Arrays `image` (n, bands, rows, columns), `valid`, `label` (n, rows, columns) and `validation` (n)."""

    def __init__(self, folder: Path, most: int, image: Cells, label: Cells | None) -> None:
        import zarr

        self._folder, self._number, self._validation = folder, 0, list[bool]()
        self._group = zarr.open_group(folder, mode="w")
        shapes = {"image": image, "valid": image[0].astype(np.uint8)}
        shapes |= {} if label is None else {"label": label}
        self._arrays = {
            name: self._group.create_array(
                name, shape=(most, *cells.shape), chunks=(1, *cells.shape), dtype=cells.dtype
            )
            for name, cells in shapes.items()
        }

    def put(self, chip: Chip) -> str:
        held = {"image": chip.image, "valid": chip.known, "label": chip.label}
        for name, array in self._arrays.items():
            array[self._number] = held[name]
        self._validation.append(chip.split != "train")
        self._number += 1
        return f"image[{self._number - 1}]"

    def finish(self) -> None:
        for array in self._arrays.values():
            array.resize((self._number, *array.shape[1:]))
        self._group.create_array("validation", data=np.array(self._validation, bool))

    def count(self) -> int:
        import zarr

        return int(zarr.open_group(self._folder, mode="r")["image"].shape[0])


class TarChips:
    """`chips-train-00000.tar` and on, of `000001.image.npy`, `.valid.npy`, `.label.npy` and `.json`."""

    def __init__(self, staging: Staging, out: Path) -> None:
        self._staging, self._out = staging, out
        self._open: dict[str, tarfile.TarFile] = {}
        self._shards: dict[str, list[Path]] = {}
        self._sizes: dict[str, int] = {}

    def put(self, chip: Chip) -> str:
        arrays = {"image": chip.image, "valid": chip.known} | (
            {} if chip.label is None else {"label": chip.label}
        )
        parts = {f"{chip.name}.{name}.npy": _as_npy(cells) for name, cells in arrays.items()}
        west, south, east, north = chip.frame.bounds
        about = {"number": chip.number, "west": west, "south": south, "east": east, "north": north}
        parts[f"{chip.name}.json"] = json.dumps(about).encode()
        size = sum(map(len, parts.values()))
        if chip.split not in self._open or self._sizes[chip.split] + size > SHARD:
            self._next(chip.split)
        for name, data in parts.items():
            entry = tarfile.TarInfo(name)
            entry.size, entry.mtime = len(data), int(time_of_writing().timestamp())
            self._open[chip.split].addfile(entry, io.BytesIO(data))
        self._sizes[chip.split] += size
        return f"{self._name(chip.split, len(self._shards[chip.split]) - 1)}:{chip.name}"

    def _name(self, split: str, number: int) -> str:
        return f"{self._out.stem}-{split}-{number:05d}.tar"

    def _next(self, split: str) -> None:
        shards = self._shards.setdefault(split, [])
        if split in self._open:
            self._open[split].close()
        path = self._staging.path_for(self._out.with_name(self._name(split, len(shards))))
        self._open[split], self._sizes[split] = tarfile.TarFile(path, "w"), 0
        shards.append(path)

    def finish(self) -> None:
        for held in self._open.values():
            held.close()

    def count(self) -> int:
        total = 0
        for path in (path for shards in self._shards.values() for path in shards):
            with tarfile.open(path) as held:
                total += sum(name.endswith(".image.npy") for name in held.getnames())
        return total


class RecordChips:
    """`chips-train.tfrecord` and `chips-validation.tfrecord` of Example messages."""

    def __init__(self, staging: Staging, out: Path) -> None:
        self._staging, self._out = staging, out
        self._files: dict[str, BinaryIO] = {}
        self._paths: list[Path] = []

    def put(self, chip: Chip) -> str:
        name = f"{self._out.stem}-{chip.split}.tfrecord"
        if chip.split not in self._files:
            path = self._staging.path_for(self._out.with_name(name))
            self._files[chip.split] = path.open("wb")
            self._paths.append(path)
        features: dict[str, Any] = {
            "number": [chip.number], "shape": list(chip.image.shape), "type": chip.image.dtype.str.encode(),
            "image": np.ascontiguousarray(chip.image).tobytes(), "valid": chip.known.tobytes(),
            "bounds": [float(side) for side in chip.frame.bounds],
        }  # fmt: skip
        if chip.label is not None:
            features |= {"label": chip.label.tobytes(), "label_type": chip.label.dtype.str.encode()}
        write_record(self._files[chip.split], example(features))
        return f"{name}:{chip.name}"

    def finish(self) -> None:
        for file in self._files.values():
            file.close()

    def count(self) -> int:
        return sum(1 for path in self._paths for _ in read_records(path))


def _as_npy(cells: Cells) -> bytes:
    held = io.BytesIO()
    np.save(held, cells, allow_pickle=False)
    return held.getvalue()
