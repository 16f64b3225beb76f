"""Damaged and hostile clouds end in a clear error, or are read, within bounded time and memory."""

from __future__ import annotations

import resource
import struct
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from points.clouds import cloud, whole, write
from zembrel.errors import InputError, ZembrelError
from zembrel.points.files import Reading, open_points
from zembrel.points.las.copc import INFO_AT
from zembrel.points.las.lasreading import open_las
from zembrel.points.laz.items import KEY
from zembrel.points.records import ExtraField, Layout

ENDINGS = (".las", ".laz", ".copc.laz", ".ply", ".parquet", ".csv")
MUTANTS = 60
MEMORY = 3_000_000_000


@pytest.fixture(autouse=True)
def bounded() -> Iterator[None]:
    """Three gigabytes of address space beyond what is taken already."""
    taken = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    before = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (taken + MEMORY, before[1]))
    yield
    resource.setrlimit(resource.RLIMIT_AS, before)


def mutated(data: bytes, random: np.random.Generator) -> bytes:
    """Bytes changed here and there, mostly at the beginning; or cut, or doubled in part."""
    made = bytearray(data)
    kind = random.integers(0, 4)
    if kind == 0:
        return bytes(made[: random.integers(0, len(made))])
    for _ in range(int(random.integers(1, 12))):
        reach = len(made) if kind == 1 else min(len(made), 700)
        at = int(random.integers(0, reach))
        if kind == 3:
            at = min(at, len(made) - 8)
            made[at : at + 8] = struct.pack("<q", random.choice([-1, 0, 1, 2**31, 2**62, len(made), 255]))
        else:
            made[at] = int(random.choice([0, 1, 127, 128, 255, made[at] ^ 1 << int(random.integers(0, 8))]))
    return bytes(made)


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("ending", ENDINGS)
@pytest.mark.parametrize("number", (1, 8))
def test_mutants_are_read_or_refused(tmp_path: Path, ending: str, number: int) -> None:
    layout = Layout(number, (ExtraField("height", "<f4"),))
    path = write(tmp_path / f"a{ending}", cloud(900, layout))
    data, random = path.read_bytes(), np.random.default_rng(len(ending) + number)
    for _ in range(MUTANTS):
        path.write_bytes(mutated(data, random))
        for salvage in (False, True):
            started = time.perf_counter()
            try:
                whole(open_points(path, Reading(salvage=salvage)))
            except ZembrelError as exc:
                assert exc.what and exc.why and exc.remedy
            assert time.perf_counter() - started < 20


def lying(path: Path, at: int, form: str, value: object) -> Path:
    data = bytearray(path.read_bytes())
    struct.pack_into(form, data, at, value)
    path.write_bytes(data)
    return path


@pytest.mark.parametrize(
    ("at", "form", "value"),
    (
        (247, "<Q", 2**63),  # points
        (105, "<H", 3),  # bytes of a record
        (96, "<I", 2**31),  # where points begin
        (100, "<I", 2**32 - 1),  # records
        (131, "<d", float("nan")),  # scale
        (104, "<B", 63),  # format
        (235, "<Q", 2**60),  # extended records
    ),
)
def test_a_header_that_lies_is_found_out(tmp_path: Path, at: int, form: str, value: object) -> None:
    path = lying(write(tmp_path / "a.las", cloud(300)), at, form, value)
    try:
        assert len(whole(open_las(path))) <= 300
    except InputError as exc:
        assert str(path) in exc.what


def test_chunks_that_claim_too_much_are_not_believed(tmp_path: Path) -> None:
    good = write(tmp_path / "a.laz", cloud(300)).read_bytes()
    at = good.index(KEY[0].encode()) + 52
    for chunk in (2**31, 0):
        path = tmp_path / "b.laz"
        path.write_bytes(good)
        lying(lying(path, at + 12, "<I", chunk), 247, "<Q", 2**33)
        with pytest.raises(InputError, match=r"chunks of|cannot be unpacked|ends after"):
            open_las(path)
    table_at = struct.unpack_from("<I", good, 96)[0]
    for value in (2**62, -5, 3):
        path.write_bytes(good)
        with pytest.raises(InputError, match="no table of its chunks"):
            open_las(lying(path, table_at, "<q", value))
        assert len(whole(open_las(path, salvage=True))) == 300, "chunks are found one by one"


def test_a_hierarchy_that_goes_in_circles_is_refused(tmp_path: Path) -> None:
    path = write(tmp_path / "a.copc.laz", cloud(300))
    data = bytearray(path.read_bytes())
    page, size = struct.unpack_from("<QQ", data, INFO_AT + 54 + 40)
    entry = struct.pack("<4iQii", 0, 0, 0, 0, page, size, -1)
    data[page : page + 32] = entry
    path.write_bytes(data)
    with pytest.raises(InputError, match="broken hierarchy"):
        open_points(path)
    path.write_bytes(data[:page] + struct.pack("<4iQii", 99, 0, 0, 0, 5, 5, 5) + data[page + 32 :])
    with pytest.raises(InputError, match="broken hierarchy"):
        open_points(path)
