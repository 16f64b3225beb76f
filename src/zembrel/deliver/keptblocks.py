"""Blocks of a pyramid that stay on the disk until it is whole, so that a run that was stopped can go on."""

from __future__ import annotations

import io
import json
import re
import shutil
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.deliver.quadtree import BlockTiles, EncodedTile, TileTask
from zembrel.engine.commit import resource_errors
from zembrel.facts import Fact, fact
from zembrel.grid.tiling import TileAddress

_PREFIX, _DIGITS = ".zembrel-tiles-", 16


@dataclass(frozen=True, eq=False)
class KeptTask:
    """`task`, whose blocks are kept in `folder` and taken from there if they are in it already."""

    task: TileTask
    folder: Path

    def __call__(self, block: TileAddress) -> BlockTiles:
        path = self.folder / f"{block.zoom}-{block.column}-{block.row}"
        found = _read(path)
        if found is None:
            found = self.task(block)
            _write(path, found)
        return found

    @property
    def said(self) -> list[Fact]:
        """How many blocks are there already."""
        number = sum(not path.name.endswith(".part") for path in self.folder.iterdir())
        return [fact("blocks_stood", blocks=number)] if number else []

    def remove(self) -> None:
        """The pack is whole: the blocks go."""
        shutil.rmtree(self.folder, ignore_errors=True)


def kept(task: TileTask, out: Path, run: str) -> KeptTask:
    """Keep the blocks of the run of that fingerprint beside `out`; those of another run for it go."""
    mine = out.parent / f"{_PREFIX}{out.name}-{run[:_DIGITS]}"
    ours = re.compile(re.escape(f"{_PREFIX}{out.name}-") + f"[0-9a-f]{{{_DIGITS}}}")
    for other in out.parent.iterdir() if out.parent.is_dir() else ():
        if ours.fullmatch(other.name) and other != mine:
            shutil.rmtree(other, ignore_errors=True)
    with resource_errors(out):
        mine.mkdir(parents=True, exist_ok=True)
    return KeptTask(task, mine)


def _write(path: Path, made: BlockTiles) -> None:
    """A block as a zip of arrays, whose checksums tell whether it is whole."""
    index = [[*tile.address, tile.format, len(tile.data)] for tile in made.tiles]
    arrays = {
        "index": np.frombuffer(json.dumps(index).encode(), np.uint8),
        "tiles": np.frombuffer(b"".join(tile.data for tile in made.tiles), np.uint8),
    }
    if made.top is not None:
        cells, valid = made.top
        arrays |= {"cells": cells} | ({} if valid is None else {"valid": valid})
    held = io.BytesIO()
    np.savez(held, **arrays)  # type: ignore[arg-type]
    part = path.with_name(f"{path.name}.part")
    with resource_errors(path):
        part.write_bytes(held.getvalue())
        part.replace(path)


def _read(path: Path) -> BlockTiles | None:
    """The block that is kept there; None if there is none that is whole."""
    try:
        with np.load(path, allow_pickle=False) as held:
            arrays = {name: held[name] for name in held.files}
        index: Sequence[list[int | str]] = json.loads(arrays["index"].tobytes())
    except (OSError, ValueError, KeyError, zipfile.BadZipFile):
        return None
    data, tiles, at = arrays["tiles"].tobytes(), list[EncodedTile](), 0
    for zoom, column, row, name, size in index:
        address = TileAddress(int(zoom), int(column), int(row))
        tiles.append(EncodedTile(address, data[at : at + int(size)], str(name)))
        at += int(size)
    top = (arrays["cells"], arrays.get("valid")) if "cells" in arrays else None
    return BlockTiles(tiles, top)
