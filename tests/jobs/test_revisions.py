"""Results of this version for fixed inputs: where one changes, the revision of its verb has to be raised.

The revision is in the key of a step of a job. A result of an earlier version would else count as unchanged.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import sqlite3
import zipfile
from contextlib import closing
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest
import tifffile
from PIL import Image, ImageSequence

import depth
from engine.test_everywhere import VERBS as EVERYWHERE
from engine.test_everywhere import inputs  # noqa: F401  a fixture
from rasters import raster, save
from zembrel.opened.calls import call
from zembrel.provenance import KEY
from zembrel.results.receipt import Receipt
from zembrel.verbtable import called_by
from zembrel.verbtable.record import ALL, JOBS

KEPT = Path(__file__).with_name("revisions.json")
WRITE = "ZEMBREL_REVISIONS"  # set to write: keep the checksums of verbs whose revision was raised
ALONG = "730100,5099000,731500,5099700"
MORE: list[tuple[str, Any, str | None, dict[str, Any]]] = [
    ("describe", "relief.tif", None, {"stats": True}), ("check", "photo.tif", None, {}), ("compare", ("relief.tif", "smooth.tif"), None, {}),
    ("index", ("photo.tif", "other.tif"), "o.geojson", {}), ("label", "photo.tif", None, {"nodata": "0"}), ("frame", "relief.tif", "o.frame.toml", {}),
    ("pin", "scan.png", "o.tif", {"ties": "ties.csv", "crs": "EPSG:32626"}), ("fetch", "relief.source.toml", "o.tif", {"within": "730200,5099000,731200,5099600"}),
    ("draw", "relief.tif", "o.png", {"ramp": "grey"}), ("profile", "relief.tif", None, {"along": ALONG}),
    ("contour", "hills.tif", "o.gpkg", {"interval": 40.0, "smooth": True}), ("contour", "hills.tif", "o.geojson", {"classes": 4, "filled": True}),
    ("deliver hgt", "cell.tif", "o/", {"cell": "3arcsec"}), ("standin device", (), None, {"name": "phone", "pack": "tiles.mbtiles"}),
    ("deliver carry", "tiles.mbtiles", None, {"carry_to": ".", "device": "phone", "dry_run": True}),
]  # fmt: skip
CASES = [*(case for case in EVERYWHERE if case[0] != "contour"), *MORE]  # lines of noise are too many
NUMBER = re.compile(r"-?\d+\.\d+(?:e[-+]?\d+)?")


def number(value: float) -> str:
    """Six digits: what processors compute alike."""
    return f"{value + 0.0:.6g}"


def plain(value: Any) -> Any:
    """A value without what differs between machines and versions."""
    if isinstance(value, dict):
        return {
            str(key): plain(inner)
            for key, inner in sorted(value.items(), key=str)
            if key not in ("zembrel", KEY)
        }
    if isinstance(value, list | tuple):
        return [plain(inner) for inner in value]
    if isinstance(value, np.ndarray):
        return cells(value)
    if isinstance(value, bytes):
        return of_bytes(value)
    return (
        number(value)
        if isinstance(value, float)
        else value
        if isinstance(value, int | bool)
        else text(str(value))
    )


def text(value: str) -> str:
    return NUMBER.sub(lambda found: number(float(found[0])), value)


def cells(values: Any) -> str:
    """Shape, type and cells; numbers of floats to six digits."""
    if values.dtype.kind == "f":
        with np.errstate(all="ignore"):
            scale = 10.0 ** (
                5 - np.floor(np.log10(np.abs(np.where(values == 0, 1, values), dtype=np.float64)))
            )
            values = np.round(values * scale) / scale + 0.0
    return f"{values.dtype.kind}{values.shape} {hashlib.sha256(np.ascontiguousarray(values).tobytes()).hexdigest()}"


def of_bytes(data: bytes) -> Any:
    """What is in the bytes of a file, by packages that share nothing with the writers."""
    if data[:4] in (b"II*\0", b"II+\0"):
        with tifffile.TiffFile(BytesIO(data)) as file:
            tags = {
                t.code: t.value
                for t in file.pages[0].tags
                if t.code in (33550, 33922, 34735, 34736, 42113, 320)
            }  # type: ignore[union-attr]
            return [plain(tags), *(cells(page.asarray()) for page in file.pages)]  # type: ignore[union-attr]
    if data[:2] == b"PK":
        with zipfile.ZipFile(BytesIO(data)) as packed:
            return {n: plain(packed.read(n)) for n in sorted(packed.namelist()) if n != f"{KEY}.json"}
    if data[:4] == b"PAR1":
        return plain(pq.read_table(BytesIO(data)).to_pydict())
    if data[:4] in (b"\x89PNG", b"GIF8", b"RIFF", b"\xff\xd8\xff\xe0"):
        with Image.open(BytesIO(data)) as picture:
            return [cells(np.asarray(frame.convert("RGBA"))) for frame in ImageSequence.Iterator(picture)]
    if data[:4] == b"LASF":
        return hashlib.sha256(data[int.from_bytes(data[96:100], "little") :]).hexdigest()
    try:
        return text(re.sub(r"(?i)zembrel \d[\w.+-]*", "", data.decode("utf-8")))
    except UnicodeDecodeError:
        return hashlib.sha256(data).hexdigest()


def of_file(path: Path) -> Any:
    data = path.read_bytes()
    if data[:15] != b"SQLite format 3":
        return json_of(data) if path.suffix in (".json", ".geojson") else of_bytes(data)
    with closing(sqlite3.connect(path)) as base:
        names = [
            n
            for (n,) in base.execute(
                "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') ORDER BY name"
            )
        ]
        own = [n for n in names if "metadata" not in n and "rtree" not in n and n != "sqlite_sequence"]
        return {n: plain(sorted(base.execute(f'SELECT * FROM "{n}"').fetchall(), key=repr)) for n in own}


def json_of(data: bytes) -> Any:
    return plain(json.loads(data))


@pytest.fixture(scope="module")
def scene(inputs: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:  # noqa: F811
    here: Path = tmp_path_factory.mktemp("revisions") / "in"
    shutil.copytree(inputs, here)
    call("fill", str(here / "relief.tif"), str(here / "smooth.tif"), reach="3")
    rows, columns = np.mgrid[:70, :80]
    hills = 200 + 90 * np.sin(rows / 9.3) * np.cos(columns / 11.7) + rows / 3.1
    save(here / "hills.tif", raster(hills.astype(np.float32)))
    with Image.open(here / "photo.tif") as picture:
        picture.save(here / "scan.png")
    ties = [
        (0, 0, 730_000, 5_100_000),
        (190, 0, 731_900, 5_100_020),
        (0, 150, 729_990, 5_098_500),
        (190, 150, 731_880, 5_098_510),
    ]
    (here / "ties.csv").write_text(
        "column,row,x,y\n" + "".join(",".join(map(str, tie)) + "\n" for tie in ties)
    )
    (here / "relief.source.toml").write_text('kind = "file"\naddress = "relief.tif"\n')
    call("deliver pyramid", str(here / "photo.tif"), str(here / "tiles.mbtiles"), zooms="14")
    return here


REVISIONS = {name: verb.revision for name, verb in called_by(ALL, JOBS).items()}


@pytest.mark.parametrize(
    "verb, whole",
    depth.some(
        [(verb, whole) for whole in (False, True) for verb in REVISIONS],
        [(verb, False) for verb in REVISIONS],
    ),
)
def test_a_result_that_changes_has_a_new_revision(
    scene: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, verb: str, whole: bool
) -> None:
    """The first case of each verb; as a whole, all of them."""
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1800000000")
    monkeypatch.chdir(scene)
    found: list[str] = []
    cases = [case[1:] for case in CASES if case[0] == verb]
    assert cases, f"nothing is kept of {verb}: add a case"
    writing = os.environ.get(WRITE) == "write"
    for source, out, options in cases if whole or writing else cases[:1]:
        place = tmp_path / str(len(found))
        place.mkdir()
        given = shutil.copy(source, place) if verb == "label" else source
        placed = {"table": f"{place}/profile.csv"} if verb == "profile" else {}
        receipt = call(verb, given, None if out is None else f"{place}/{out}", **options | placed)
        files = sorted(path for path in place.rglob("[!.]*") if path.is_file())
        made = [[path.name, of_file(path)] for path in files]
        own = plain(receipt.own) if not made and isinstance(receipt, Receipt) else {}
        found.append(hashlib.sha256(json.dumps([made, own], sort_keys=True).encode()).hexdigest()[:32])
    known = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    entry = {"revision": REVISIONS[verb], "results": found}
    raised = entry["revision"] > known.get(verb, {}).get("revision", 0)
    if writing and raised:
        KEPT.write_text(json.dumps(dict(sorted((known | {verb: entry}).items())), indent=1) + "\n")
        return
    way = f"{WRITE}=write .venv/bin/python -m pytest -n0 tests/jobs/test_revisions.py"
    assert not raised, f"keep the results of revision {REVISIONS[verb]} of {verb}: {way}"
    kept = known[verb]["results"]
    assert (kept if whole else kept[:1]) == (found if whole else found[:1]), (
        f"{verb} makes other results than before: raise the revision of its record in src/zembrel/verbtable, "
        f"so that jobs make theirs anew, and then keep them: {way}"
    )


def test_a_revision_is_kept_of_every_verb_and_of_no_other() -> None:
    assert set(REVISIONS) == set(json.loads(KEPT.read_text()))
