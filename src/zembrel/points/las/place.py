"""The CRS of a LAS file: GeoKeys in three records, or WKT in one.

Source: LAS Specification 1.4 R15, section 3 (coordinate reference system records).
"""

from __future__ import annotations

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy import geokeys
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.points.las.vlr import Record

USER = "LASF_Projection"
WKT = 2112
KEYS = (geokeys.DIRECTORY, geokeys.DOUBLES, geokeys.TEXTS)


def read_place(records: list[Record], *, wkt_first: bool) -> tuple[CRS | None, str | None]:
    """The CRS that records tell, and what is wrong with them. wkt_first: whether WKT counts before keys."""
    held = {r.id: r.data for r in records if r.user == USER}
    trouble = None
    for kind in ("wkt", "keys") if wkt_first else ("keys", "wkt"):
        try:
            crs = _of_wkt(held) if kind == "wkt" else _of_keys(held)
        except InputError as exc:
            trouble = f"its CRS cannot be read: {exc.why}"
            continue
        if crs is not None:
            return crs, trouble
    return None, trouble


def _of_wkt(held: dict[int, bytes]) -> CRS | None:
    text = held.get(WKT, b"").rstrip(b"\0").decode("utf-8", "replace").strip()
    return read_crs(text) if text else None


def _of_keys(held: dict[int, bytes]) -> CRS | None:
    numbers, doubles, text = (held.get(key, b"") for key in KEYS)
    directory = np.frombuffer(numbers[: len(numbers) // 2 * 2], "<u2")
    pointed = np.frombuffer(doubles[: len(doubles) // 8 * 8], "<f8")
    return geokeys.crs_of(geokeys.unpack(directory, pointed, text.decode("latin-1")))


def write_place(crs: CRS, *, wkt: bool) -> list[Record]:
    """The records that tell a CRS; wkt: as the file's formats 6 to 10 want it."""
    if wkt and not isinstance(crs, UnresolvedCRS):
        text = write_crs(crs, "wkt1").encode() + b"\0"
        return [Record(USER, WKT, text, "OGC coordinate system WKT")]
    packed = geokeys.pack(geokeys.keys_of(crs))
    made = [
        Record(USER, KEYS[0], np.array(packed.directory, "<u2").tobytes(), "GeoTIFF keys"),
        Record(USER, KEYS[1], np.array(packed.doubles, "<f8").tobytes(), "numbers of GeoTIFF keys"),
        Record(USER, KEYS[2], packed.text.encode("latin-1", "replace") + b"\0", "texts of GeoTIFF keys"),
    ]
    return [record for n, record in enumerate(made) if n == 0 or len(record.data) > 1]
