"""What a tile or picture of a service holds, as cells."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.formats import load
from zembrel.raster.legend import Legend
from zembrel.raster.model import Band
from zembrel.raster.views.palette import RGB
from zembrel.sources.heldbytes import HeldBytes

Cells = npt.NDArray[Any]
_PICTURES = {
    b"\x89PNG": "PNG",
    b"\xff\xd8\xff": "JPEG",
    b"GIF8": "GIF",
    b"RIFF": "WEBP",
    b"II*\0": "TIFF",
    b"MM\0*": "TIFF",
}
_SHOWN = 120  # characters of a message that is told


@dataclass(frozen=True, eq=False)
class TileCells:
    """Cells of the bytes of a tile.

    holds: colours, codes, heights or values; shape: rows and columns; heights: height = base + step x grey +
    red x red + green x green + blue x blue, and what is void.
    """

    holds: str
    shape: tuple[int, int]
    legend: Legend | None = None
    heights: Mapping[str, float] = field(default_factory=dict)
    unit: str = ""
    nodata: float | None = None
    values: tuple[Band, ...] = ()  # of raw values, as the service gives them

    @property
    def bands(self) -> tuple[Band, ...]:
        if self.holds == "colours":
            return RGB
        if self.holds == "codes":
            return (Band("codes", "uint8", legend=self.legend),)
        return self.values or (Band("height", "float32", self.nodata, unit=self.unit or "m"),)

    def check(self, data: bytes, kind: str) -> None:
        """Raise ValueError for bytes that are no picture of this size."""
        form = form_of(data, kind)
        if form == "TIFF":
            return
        from PIL import Image

        try:
            with Image.open(io.BytesIO(data), formats=[form]) as picture:
                columns, rows = picture.size
        except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as exc:
            raise ValueError(f"it is no whole picture: {exc}") from exc
        if (rows, columns) != self.shape:
            raise ValueError(
                f"it has {columns} x {rows} cells, and {self.shape[1]} x {self.shape[0]} are due"
            )

    def decode(self, data: bytes) -> tuple[Cells, Cells | None]:
        """Cells (bands, rows, columns) and where they are valid, (rows, columns) or None for everywhere.

        Raises ValueError.
        """
        picture, valid = _opened(data, indices=self.holds == "codes")
        if picture.shape[1:] != self.shape:
            raise ValueError(f"it has {picture.shape[2]} x {picture.shape[1]} cells")
        if self.holds == "heights":
            return self._heights(picture, valid)
        if self.holds == "colours":
            picture = picture[:3] if len(picture) >= 3 else np.repeat(picture[:1], 3, axis=0)
        elif len(picture) != len(self.bands):
            raise ValueError(f"it has {len(picture)} bands, and {len(self.bands)} are due")
        return picture.astype(self.bands[0].dtype, copy=False), _both(valid, self._known(picture))

    def _known(self, picture: Cells) -> Cells | None:
        if self.nodata is None:
            return None
        known: Cells = np.all(picture != self.nodata, axis=0)
        return known

    def _heights(self, picture: Cells, valid: Cells | None) -> tuple[Cells, Cells | None]:
        """Heights in the unit of the source, of one number a cell or of its red, green and blue."""
        said, parts = self.heights, picture.astype(np.float64)
        if len(picture) < 3:
            number = parts[0]
            height = said.get("base", 0.0) + said.get("step", 1.0) * number
        else:
            number = parts[0] * 65_536 + parts[1] * 256 + parts[2]
            weights = ("red", 65_536.0), ("green", 256.0), ("blue", 1.0)
            step = said.get("step", 1.0)
            height = said.get("base", 0.0) + sum(
                said.get(name, weight * step) * parts[n] for n, (name, weight) in enumerate(weights)
            )
        known = None if "void" not in said else number != said["void"]
        return height.astype(np.float32)[None], _both(valid, _both(known, self._known(height[None])))


def _both(one: Cells | None, other: Cells | None) -> Cells | None:
    return other if one is None else one if other is None else one & other


def form_of(data: bytes, kind: str) -> str:
    """The form of a picture by its first bytes. Raises ValueError, with what the server says instead."""
    form = next((form for mark, form in _PICTURES.items() if data.startswith(mark)), None)
    if form is not None:
        return form
    start = data.lstrip()[:_SHOWN]
    if start.startswith(b"<") or kind.startswith("text/") or kind.endswith(("xml", "json")):
        raise ValueError(f"it is {kind or 'text'}, and no picture: {plain_words(data)}")
    raise ValueError(f"it is no picture: it is called {kind or 'nothing'}, and begins with {data[:8]!r}")


def plain_words(data: bytes) -> str:
    """The words of a page or message, without its marks."""
    text = re.sub(
        r"<(script|style|title)\b.*?</\1>|<[^>]*>|[\x00-\x1f]+",
        " ",
        data[:20_000].decode("utf-8", "replace"),
        flags=re.S,
    )
    words = " ".join(text.split())
    return words if len(words) <= _SHOWN else words[: _SHOWN - 3] + "..."


def _opened(data: bytes, *, indices: bool) -> tuple[Cells, Cells | None]:
    """A picture's bands, (bands, rows, columns), and where it is not clear."""
    form = form_of(data, "")
    if form == "TIFF":
        return _tiff(data)
    import imagecodecs
    from PIL import Image

    try:
        if form == "JPEG":
            cells = imagecodecs.jpeg8_decode(data)
        elif form == "WEBP":
            cells = imagecodecs.webp_decode(data)
        else:
            with Image.open(io.BytesIO(data), formats=[form]) as opened:
                picture: Image.Image = opened
                if picture.mode == "P" and not (indices and "transparency" not in picture.info):
                    clear = picture.info.get("transparency")
                    if indices:
                        codes = np.array(picture)
                        return codes[None], ~np.isin(codes, _clear(clear))
                    picture = picture.convert("RGBA" if clear is not None else "RGB")
                elif form == "PNG" and picture.mode not in ("P", "1"):
                    cells = imagecodecs.png_decode(data)
                    return _apart(cells)
                cells = np.array(picture)
    except (OSError, ValueError, SyntaxError, RuntimeError) as exc:
        raise ValueError(f"it does not decode: {exc}") from exc
    return _apart(cells)


def raw_cells(data: bytes) -> Cells:
    """The bands of a picture as they are, (bands, rows, columns). Raises ValueError."""
    return _opened(data, indices=False)[0]


def _clear(said: int | bytes | None) -> list[int]:
    """Entries of a palette that are clear."""
    return [said] if isinstance(said, int) else [n for n, alpha in enumerate(said or b"") if alpha == 0]


def _apart(cells: Cells) -> tuple[Cells, Cells | None]:
    if cells.ndim == 2:
        return cells.astype(np.uint8)[None] if cells.dtype == bool else cells[None], None
    planes = cells.transpose(2, 0, 1)  # seen so: whoever places them puts them in order
    if len(planes) in (2, 4):
        valid = planes[-1] > 0
        return planes[:-1], None if valid.all() else valid
    return planes, None


def _tiff(data: bytes) -> tuple[Cells, Cells | None]:
    """All bands of a TIFF. Raises ValueError."""
    try:
        raster = load("geotiff").open_raster(HeldBytes(data), None)
        block = raster.cells(raster.frame.pane)
    except InputError as exc:
        raise ValueError(f"{exc.what}: {exc.why}") from exc
    return block.cells, None if block.valid is None else block.anywhere
