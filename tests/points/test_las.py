"""LAS files: what is written comes back, whatever else the file holds, and a header that lies is found out."""

from __future__ import annotations

import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from points.clouds import HOME, PLACE, cloud, whole, write
from points.test_laz import LAYOUTS, named, records
from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.laswriting import NewFile, las_sink
from zembrel.points.las.vlr import Record, read_records, write_records
from zembrel.points.laz.items import KEY, VARIABLE
from zembrel.points.model import PointBlock
from zembrel.points.records import ExtraField, Layout


@pytest.mark.parametrize("layout", LAYOUTS, ids=named)
@pytest.mark.parametrize("ending", (".las", ".laz"))
def test_all_formats_come_back_to_the_bit(tmp_path: Path, layout: Layout, ending: str) -> None:
    for count in (0, 1, 999, 1000, 1001, 3500):
        raw = records(layout, count, "random", count)
        given = PointBlock(raw.reshape(-1).view(layout.dtype), layout, PLACE)
        path = write(tmp_path / f"{count}{ending}", given, chunk=1000)
        back = open_las(path)
        assert back.cloud.layout == replace(layout, extra=back.cloud.layout.extra)
        assert [(f.name, f.type) for f in back.cloud.layout.extra] == [(f.name, f.type) for f in layout.extra]
        assert back.cloud.count == count and back.cloud.remarks == () and back.cloud.crs == HOME
        assert whole(back).records.tobytes() == raw.tobytes()


def test_the_header_is_as_the_specification_lays_it_out(tmp_path: Path) -> None:
    block = cloud(500, Layout(3), **{"returns": 3, "return": np.arange(500) % 3 + 1})
    data = write(tmp_path / "a.las", block).read_bytes()
    assert data[:4] == b"LASF" and tuple(data[24:26]) == (1, 2) and data[104] == 3
    size, points_at, number = struct.unpack_from("<HII", data, 94)
    assert size == 227 and struct.unpack_from("<H", data, 105)[0] == 34
    assert struct.unpack_from("<I5I", data, 107) == (500, 167, 167, 166, 0, 0)
    bounds = struct.unpack_from("<6d", data, 179)
    np.testing.assert_allclose(bounds[0::2], [block.x.max(), block.y.max(), block.z.max()])
    np.testing.assert_allclose(bounds[1::2], [block.x.min(), block.y.min(), block.z.min()])
    assert len(data) == points_at + 500 * 34
    user, kind, length = struct.unpack_from("<2x16sHH", data, 227)
    assert user.rstrip(b"\0") == b"LASF_Projection" and kind == 34735 and number >= 1
    keys = np.frombuffer(data, "<u2", length // 2, 227 + 54).reshape(-1, 4).tolist()
    assert [3072, 0, 1, 32626] in keys


def test_formats_6_and_more_are_1_4_with_wkt_and_counts_of_15_returns(tmp_path: Path) -> None:
    data = write(tmp_path / "a.las", cloud(40, returns=12, **{"return": 12})).read_bytes()
    assert tuple(data[24:26]) == (1, 4) and struct.unpack_from("<H", data, 94)[0] == 375
    assert struct.unpack_from("<H", data, 6)[0] & 16, "the bit of WKT"
    assert struct.unpack_from("<I5I", data, 107) == (0,) * 6, "no old counts for new formats"
    assert struct.unpack_from("<Q15Q", data, 247) == (40, *[0] * 11, 40, 0, 0, 0)
    assert b"PROJCS[" in data[375:]


@pytest.mark.parametrize(
    "text", ("EPSG:32626", "EPSG:4326", "EPSG:3857", "EPSG:32626 + EPSG:5773", "EPSG:2193")
)
@pytest.mark.parametrize("number", (1, 6))
def test_a_crs_comes_back(tmp_path: Path, text: str, number: int) -> None:
    crs: CRS = parse_crs(text)
    back = open_las(write(tmp_path / "a.laz", cloud(10, Layout(number)), crs)).cloud.crs
    assert (
        back is not None
        and back.name == crs.name
        and getattr(back, "vertical", None) == getattr(crs, "vertical", None)
    )


def test_extra_bytes_keep_their_meaning(tmp_path: Path) -> None:
    extra = (
        ExtraField("temperature", "<i2", 1, (0.1,), (20.0,)),
        ExtraField("normal", "<f4", 3),
        ExtraField("odd", "V5"),
    )
    block = cloud(50, Layout(1, extra))
    block.records["extra0"] = np.arange(50) - 25
    block.records["extra1"] = np.arange(150).reshape(50, 3)
    back = whole(write(tmp_path / "a.laz", block))
    np.testing.assert_allclose(back.values("temperature"), 20 + 0.1 * (np.arange(50) - 25))
    np.testing.assert_array_equal(back.values("normal"), np.arange(150).reshape(50, 3))
    assert back.layout.names[-3:] == ("temperature", "normal", "odd")


def test_records_that_nobody_knows_are_carried_and_waveforms_too(tmp_path: Path) -> None:
    layout = Layout(4)
    block = cloud(300, layout)
    block.records["wave_index"], block.records["wave_size"] = 1, 64
    block.records["wave_offset"] = 60 + 64 * np.arange(300)
    plain = write(tmp_path / "a.las", block, version=(1, 3))
    waves = np.random.default_rng(1).integers(0, 256, 300 * 64, np.uint8).tobytes()
    data = bytearray(plain.read_bytes())
    at, head = len(data), write_records([Record("LASF_Spec", 65535, waves, "waves")], extended=True)
    data[6:8] = struct.pack("<H", 2)  # waveforms inside
    data[227:235] = struct.pack("<Q", at)
    lookup = write_records([Record("LASF_Spec", 0, b"\x02" + b"ground".ljust(15, b"\0"), "classes")])
    points_at, number = struct.unpack_from("<II", data, 96)
    data[96:104] = struct.pack("<II", points_at + len(lookup), number + 1)
    data[227:235] = struct.pack("<Q", at + len(lookup))
    data[points_at:points_at] = lookup
    plain.write_bytes(bytes(data) + head)
    source = open_las(plain)
    assert source.cloud.count == 300
    packed = write(tmp_path / "b.laz", whole(source), like=source)
    again = open_las(packed)
    assert any(r.key == ("LASF_Spec", 0) and r.data[1:7] == b"ground" for r in again.records)
    at = again.header.waves_at
    assert packed.read_bytes()[at + 60 : at + 60 + len(waves)] == waves
    assert whole(again).records.tobytes() == block.records.tobytes()


@pytest.mark.parametrize("minor", (0, 1, 2))
def test_older_versions_are_read(tmp_path: Path, minor: int) -> None:
    block = cloud(70, Layout(1))
    path = _patched(write(tmp_path / "a.las", block), 25, "<B", minor)
    assert whole(open_las(path)).records.tobytes() == block.records.tobytes()


def test_a_single_run_without_chunks_is_read(tmp_path: Path) -> None:
    block = cloud(800, Layout(3))
    data = bytearray(write(tmp_path / "a.laz", block).read_bytes())
    at = data.index(KEY[0].encode()) + 52
    data[at : at + 2] = struct.pack("<H", 1)
    points_at = struct.unpack_from("<I", data, 96)[0]
    table = struct.unpack_from("<q", data, points_at)[0]
    (tmp_path / "b.laz").write_bytes(data[:points_at] + data[points_at + 8 : table])
    assert whole(open_las(tmp_path / "b.laz")).records.tobytes() == block.records.tobytes()


def test_chunks_of_all_sizes_are_found_by_their_table(tmp_path: Path) -> None:
    block = cloud(3000, Layout(7), red=np.arange(3000))
    new = NewFile(block.layout, block.scaling, HOME, True, 3000, chunk=VARIABLE)
    sink = las_sink(tmp_path / "a.laz", new)
    for begin, end in ((0, 1), (1, 1200), (1200, 1201), (1201, 3000)):
        sink.store.append(sink.encoder.encode(block.take(slice(begin, end))))
    sink.store.finish()
    source = open_las(tmp_path / "a.laz")
    assert [part.points for part in source.parts] == [1, 1199, 1, 1799]
    assert whole(source).records.tobytes() == block.records.tobytes()
    assert source.read(source.parts[3]).records.tobytes() == block.records[1201:].tobytes(), (
        "any chunk by itself"
    )


@pytest.mark.parametrize("number", range(11))
def test_regrading_names_every_loss(number: int) -> None:
    old = Layout(number)
    block = cloud(200, old, returns=2, **{"return": 1, "class": 5, "source": 9})
    for name in ("gps_time", "red", "nir", "wave_index"):
        if name in old.dtype.names:
            block.records[name] = np.arange(200) % 50 + 1
    for target in range(11):
        new = Layout(target)
        made, lost = block.regraded(new)
        for name in ("x", "y", "z", "intensity", "class", "return", "returns", "source"):
            np.testing.assert_array_equal(made.values(name), block.values(name))
        gone = {n for n in ("gps_time", "red", "nir") if n in old.dtype.names and n not in new.dtype.names}
        assert {f"{n} is lost" for n in gone} <= set(lost)
        assert ("the waveform is lost" in lost) == (old.has_waves and not new.has_waves)
        if old.format == new.format:
            assert lost == {} and made.records.tobytes() == block.records.tobytes()


def test_values_that_older_formats_cannot_hold_are_counted() -> None:
    block = cloud(
        10, returns=9, **{"return": 9, "class": 40, "overlap": 1, "scan_angle": np.arange(10) * 0.3}
    )
    made, lost = block.regraded(Layout(1))
    assert set(made.values("class")) == {1} and set(made.values("return")) == {7}
    assert lost["a class above 31 becomes 1"] == 10 and lost["more than 7 returns become 7"] == 10
    assert lost["the flag of overlap is lost"] == 10 and lost["scan angles are rounded to degrees"] == 9
    back, lost = made.having("class", 12).regraded(Layout(6))
    assert set(back.values("overlap")) == {1} and set(back.values("class")) == {1} and len(lost) == 1


def _patched(path: Path, at: int, form: str, *values: object) -> Path:
    data = bytearray(path.read_bytes())
    struct.pack_into(form, data, at, *values)
    path.write_bytes(data)
    return path


def test_lies_of_a_header_are_told_and_survived(tmp_path: Path) -> None:
    block = cloud(400)
    path = _patched(write(tmp_path / "few.las", block), 247, "<Q", 100)
    source = open_las(path)
    assert source.cloud.count == 400 and "tells of 100 points, and 400 lie there" in source.cloud.remarks[0]
    packed = _patched(write(tmp_path / "few.laz", block, chunk=100), 247, "<Q", 399)
    assert open_las(packed).cloud.count == 399, "the last chunk may hold less"
    many = _patched(write(tmp_path / "many.las", block), 247, "<Q", 1000)
    with pytest.raises(InputError, match="400 of 1,000 points"):
        open_las(many)
    source = open_las(many, salvage=True)
    assert source.cloud.count == 400 and "600 of 1,000 points are lost" in source.cloud.remarks[0]
    wrong = _patched(write(tmp_path / "bounds.laz", block), 179, "<6d", 1, 2, 3, 4, 5, 6)
    assert open_las(wrong).cloud.bounds is None, "ends that are the wrong way round are none"


@pytest.mark.parametrize("number", (1, 6))
def test_a_file_that_is_cut_off_is_salvaged_as_far_as_it_goes(tmp_path: Path, number: int) -> None:
    block = cloud(4000, Layout(number))
    for ending in (".las", ".laz"):
        path = write(tmp_path / f"a{ending}", block, chunk=500)
        data = path.read_bytes()
        for share in (0.35, 0.8, 0.999):
            path.write_bytes(data[: int(len(data) * share)])
            with pytest.raises(InputError, match=r"cut off|ends after|no table|broken"):
                whole(open_las(path))
            source = open_las(path, salvage=True)
            back = whole(source)
            assert 500 * int(share * 7) <= len(back) < 4000 + (share > 0.99 and ending == ".laz")
            if number == 6:  # the layers of places come first in a chunk: they may be all that is left of it
                good = len(back) // 500 * 500
                np.testing.assert_array_equal(back.x, block.x[: len(back)])
                np.testing.assert_array_equal(back.z[:good], block.z[:good])
                whole_ones = (back.records == block.records[: len(back)]).reshape(-1)
                assert whole_ones[: max(good - 500, 0)].all()
            else:
                good = len(back) - 60  # the last ones of a chunk that is cut may be wrong
                assert back.records[:good].tobytes() == block.records[:good].tobytes()


def test_places_outlive_the_other_values_of_a_chunk_that_is_cut(tmp_path: Path) -> None:
    block = cloud(900, gps_time=np.arange(900) * 1.5, **{"class": np.arange(900) % 7})
    path = write(tmp_path / "a.laz", block)
    path.write_bytes(path.read_bytes()[:-1500])  # within the times, which are the last layer
    source = open_las(path, salvage=True)
    back = whole(source)
    assert len(back) == 900 and any("not all of their values" in remark for remark in source.cloud.remarks)
    for name in ("x", "y", "z", "class", "intensity"):
        np.testing.assert_array_equal(back.values(name), block.values(name))
    assert not back.values("gps_time")[1:].any()
    only = source.read(source.parts[0], frozenset())
    np.testing.assert_array_equal(only.x, block.x)


def test_records_beyond_the_file_are_told() -> None:
    data = np.frombuffer(write_records([Record("me", 7, b"abc"), Record("me", 8, b"defg")]), np.uint8)
    found, trouble = read_records(data, 0, 5)
    assert (
        [r.data for r in found] == [b"abc", b"defg"]
        and trouble is not None
        and "tells of 5 records" in trouble
    )
    found, trouble = read_records(data[:-1], 0, 2)
    assert [r.id for r in found] == [7] and trouble is not None and "record 2 is cut off" in trouble


def test_what_is_no_las_file_is_refused(tmp_path: Path) -> None:
    for name, data, why in (
        ("empty", b"", "it begins with"),
        ("text", b"hello" * 100, "it begins with b'hell'"),
        ("short", b"LASF" + bytes(50), "it begins with"),
    ):
        path = tmp_path / f"{name}.las"
        path.write_bytes(data)
        with pytest.raises(InputError) as found:
            open_las(path)
        assert why in found.value.why
    path = _patched(write(tmp_path / "a.las", cloud(5)), 24, "<BB", 2, 0)
    with pytest.raises(InputError, match=r"LAS 2\.0"):
        open_las(path)
    assert by_code(32626) == HOME


@pytest.mark.parametrize("number", [1, 6])
@pytest.mark.parametrize("ending", [".las", ".laz"])
def test_a_return_number_of_0_is_no_first_return(tmp_path: Path, number: int, ending: str) -> None:
    block = cloud(40, Layout(number), **{"return": np.arange(40) % 4, "returns": 3})
    path = write(tmp_path / f"r{ending}", block)
    data, long = path.read_bytes(), number > 5
    counts = struct.unpack_from("<15Q", data, 255) if long else struct.unpack_from("<5I", data, 111)
    assert counts[:4] == (10, 10, 10, 0)
