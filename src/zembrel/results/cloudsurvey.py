"""What only a look at all points tells."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.inputs.options import Output
from zembrel.points.bounding import sidecar, write_bounds
from zembrel.points.model import Bounds3, Fields, PointSource
from zembrel.points.restated import Restated, las_of


def _bounds(fields: Fields, piece: Piece) -> Bounds3:
    """Bounds of a piece, of which only some values are read."""
    return piece.source.read(piece.part, fields).bounds()


def bounds_of(source: PointSource, output: Output) -> Bounds3:
    """The true bounds of a cloud; zeros if it is empty."""
    found = [np.zeros((0, 6))]
    task = partial(_bounds, frozenset({"z"}))
    found += [np.array([bounds]) for bounds in over_pieces(pieces_of([source]), task, output.limits)]
    all_of_them = np.concatenate(found)
    all_of_them = all_of_them[np.isfinite(all_of_them).all(axis=1)]
    if not len(all_of_them):
        return (0.0,) * 6
    return (*all_of_them[:, :3].min(axis=0).tolist(), *all_of_them[:, 3:].max(axis=0).tolist())


def part_bounds(source: PointSource, output: Output) -> npt.NDArray[np.float64]:
    """Bounds of each part of a cloud, (parts, 6); heights are not looked at."""
    found = list(over_pieces(pieces_of([source]), partial(_bounds, frozenset()), output.limits))
    return np.array(found, np.float64).reshape(-1, 6)


def with_part_bounds(source: PointSource, output: Output) -> PointSource:
    """`source` with the bounds of its parts, read once if nobody knows them."""
    if all(part.bounds is not None for part in source.parts):
        return source
    found = part_bounds(source, output).tolist()
    parts = tuple(part._replace(bounds=tuple(row)) for part, row in zip(source.parts, found, strict=True))
    return Restated(source, source.cloud, parts)


def keep_part_bounds(source: PointSource, output: Output) -> None:
    """Write the bounds of a packed file's chunks beside it, unless they stand there or its own octree tells
    them."""
    las = las_of(source)
    if (
        las is None
        or not isinstance(las.path, Path)
        or las.chunks is None
        or all(part.bounds is not None for part in source.parts)
    ):
        return
    final = sidecar(las.path)
    with Staging(replace=True) as staging:
        staged = staging.path_for(final)
        with resource_errors(final):
            write_bounds(staged, las, part_bounds(las, output))
        staging.publish()
