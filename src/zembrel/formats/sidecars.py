"""What lies beside an image and says where it is: world files, KML overlays, lists of tie points.

They are heeded in this order. Where several are there and do not agree, the reader says which was taken and
how far the others are from it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from zembrel.errors import ZembrelError
from zembrel.formats.overlayfile import overlay_frame
from zembrel.formats.tiesfile import read_ties
from zembrel.formats.worldfile import UNPLACED, crs_beside, read_world_file, world_file_names
from zembrel.geodesy.crs import UnresolvedCRS, same
from zembrel.geodesy.operation import operation
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pinning import judged, pinned

_AGREE = 0.5  # cells by which corners may differ
_TIES_FIT = 1.0  # cells by which tie points may miss a plane placing


class FoundPlace(NamedTuple):
    """A frame, and what is to be said about where it came from."""

    frame: Frame
    remarks: tuple[str, ...] = ()


def placed_beside(image: Path, columns: int, rows: int) -> FoundPlace:
    """The frame that files beside `image` give it, else one in plain cells without a CRS.

    Raises InputError for a file that should place it and is broken.
    """
    return placed_in(None, image, columns, rows)


def placed_in(own: Frame | None, image: Path, columns: int, rows: int) -> FoundPlace:
    """The same of an image that holds a place itself, if `own` is one: that is taken."""
    found = list(_placings(image, columns, rows))
    if own is None and not found:
        return FoundPlace(Frame(crs_beside(image), UNPLACED, columns, rows))
    name, frame, said = ("itself", own, []) if own is not None else (found[0][0].name, *found[0][1:])
    if frame.crs is None and (crs := crs_beside(image)) is not None:
        frame = replace(frame, crs=crs)
        said.append("CRS of the .prj beside it")
    for other, rival, _ in found if own is not None else found[1:]:
        rival = replace(rival, crs=rival.crs or frame.crs)
        apart = _apart(frame, rival)
        if apart is None or apart > _AGREE:
            far = "cannot be compared" if apart is None else f"places it {apart:,.1f} cells away"
            said.append(f"placed by {name}; {other.name} {far}")
    return FoundPlace(frame, tuple(said))


def _placings(image: Path, columns: int, rows: int) -> Iterator[tuple[Path, Frame, list[str]]]:
    for beside in world_file_names(image):
        if beside.is_file():
            yield beside, Frame(crs_beside(image), read_world_file(beside), columns, rows), []
    for beside in (image.with_suffix(".kml"), Path(f"{image}.kml")):
        if beside.is_file():
            frame = overlay_frame(beside, image, columns, rows)
            if frame is not None:
                yield beside, frame, []
    for beside in (image.with_suffix(".ties.csv"), Path(f"{image}.ties.csv")):
        if beside.is_file():
            yield _of_ties(beside, image, columns, rows)


def _of_ties(beside: Path, image: Path, columns: int, rows: int) -> tuple[Path, Frame, list[str]]:
    ties = read_ties(beside).reversed()
    place = pinned(ties, "affine")
    (x0, x1, x2), (y0, y1, y2) = place(np.array([0.0, columns, 0.0]), np.array([0.0, 0.0, rows]))
    affine = Affine(
        float(x0),
        float(y0),
        float(x1 - x0) / columns,
        float(y2 - y0) / rows,
        float(x2 - x0) / rows,
        float(y1 - y0) / columns,
    )
    frame = Frame(crs_beside(image), affine, columns, rows)
    fit = judged(ties.reversed(), "affine")
    worst = float(np.max(fit.residuals))
    said = [f"placed by {len(ties.names)} tie points of {beside.name}, the worst {worst:.2f} cells off"]
    if worst > _TIES_FIT:
        said.append("pin bends a picture to such points")
    return beside, frame, said


def _apart(one: Frame, other: Frame) -> float | None:
    """The most that a corner lies apart, in cells of `one`; None where their CRSs cannot be compared."""
    columns, rows = one.columns, one.rows
    cols = np.array([0.0, columns, columns, 0.0])
    downs = np.array([0.0, 0.0, rows, rows])
    x, y = other.corners.at(cols, downs)
    if not same(one.crs, other.crs):
        if one.crs is None or other.crs is None or isinstance(one.crs, UnresolvedCRS):
            return None
        try:
            x, y = operation(other.crs, one.crs)(x, y)
        except ZembrelError:
            return None
    at, down = one.corners.position(np.asarray(x), np.asarray(y))
    return float(np.hypot(at - cols, down - downs).max())
