"""Text, PLY, Parquet and octrees: what is written comes back, and what others write is read."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pyarrow
import pyarrow.parquet as parquet
import pytest

from points.clouds import HOME, LINEAR, at, cloud, whole, write
from program import Program
from zembrel.engine.points import flow
from zembrel.errors import InputError, UsageError
from zembrel.points.files import Reading, holds_points, make_sink, open_points
from zembrel.points.files import copc as copc_files
from zembrel.points.las.copc import nodes_of, read_info
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.laswriting import NewFile
from zembrel.points.las.vlr import Record
from zembrel.points.records import ExtraField, Layout


@pytest.mark.parametrize("ending", (".csv", ".txt", ".ply", ".parquet", ".las", ".laz", ".copc.laz"))
def test_all_values_come_back(tmp_path: Path, ending: str) -> None:
    layout = Layout(8, (ExtraField("height", "<f4"),))
    block = cloud(2500, layout, **{"class": np.arange(2500) % 19, "return": 2, "returns": 3, "red": 257 * 80})
    block.records["gps_time"] = 3e8 + np.arange(2500) / 7
    block.records["extra0"] = np.arange(2500) / 8
    source = open_points(write(tmp_path / f"a{ending}", block))
    assert source.cloud.crs is not None and source.cloud.crs.name == HOME.name and source.cloud.count == 2500
    back = whole(source)
    order = np.argsort(back.values("gps_time"))
    for name in ("class", "return", "returns", "intensity", "red", "gps_time", "height"):
        np.testing.assert_array_equal(back.values(name)[order], block.values(name))
    for axis in "xyz":
        np.testing.assert_allclose(back.values(axis)[order], block.values(axis), rtol=0, atol=1e-6)


def test_columns_are_named_by_a_header_or_by_the_user(tmp_path: Path) -> None:
    path = tmp_path / "a.txt"
    path.write_text("# survey\n12.5 730000.25 5100000.125 7 0\n13.5\t730001.25  5100001.125 8 1\n\n")
    source = open_points(path, Reading(("z", "x", "y", "intensity", "-")))
    back = whole(source)
    assert back.x.tolist() == [730000.25, 730001.25] and back.z.tolist() == [12.5, 13.5]
    assert back.values("intensity").tolist() == [7, 8] and source.cloud.scaling.scale == (0.01, 0.001, 0.1)
    path.write_text("Easting;Northing;Elevation;Classification;mood\n1;2;3;2;0,5\n".replace(",", "."))
    back = whole(path)
    assert (back.x[0], back.y[0], back.z[0], back.values("class")[0], back.values("mood")[0]) == (
        1,
        2,
        3,
        2,
        0.5,
    )
    path.write_text("3\n1 2 3\n4 5 6\n7 8 9\n")  # the count first
    assert whole(path).x.tolist() == [1, 4, 7]


def test_text_that_is_no_cloud_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.xyz"
    for text, why in (("", "begins"), ("hello world\nagain\n", "begins"), ("1 2 3\n4 5 six\n", "no point")):
        path.write_text(text)
        with pytest.raises(InputError) as found:
            whole(path)
        assert why in str(found.value) + found.value.why
    path.write_text("x,y,height_above\n1,2,3\n")
    with pytest.raises(InputError, match="no column z"):
        open_points(path)
    path.write_text("1 2 3 4\n")
    with pytest.raises(UsageError, match="column x is given twice"):
        open_points(path, Reading(("x", "x", "y", "z")))
    path.write_text("1 2 nan\n1 2 3\n")
    with pytest.raises(InputError, match="z is no number"):
        whole(path)


@pytest.mark.parametrize("form", ("ascii", "binary_little_endian", "binary_big_endian"))
def test_ply_of_all_three_forms(tmp_path: Path, form: str) -> None:
    head = f"ply\nformat {form} 1.0\ncomment by hand\nelement vertex 3\n"
    head += "".join(
        f"property {kind} {name}\n" for kind, name in (("float", "x"), ("double", "y"), ("short", "z"))
    )
    head += "property uchar red\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n"
    rows = [(1.5, 2.25, -3, 255), (4.5, 5.25, 6, 0), (7.5, 8.25, 9, 128)]
    order = ">" if form.endswith("big_endian") else "<"
    dtype = np.dtype([("x", order + "f4"), ("y", order + "f8"), ("z", order + "i2"), ("red", "u1")])
    data = (
        np.array(rows, dtype).tobytes()
        if form != "ascii"
        else b"".join(b"%g %g %d %d\n" % row for row in rows)
    )
    path = tmp_path / "a.ply"
    path.write_bytes(head.encode() + data + b"3 0 1 2\n")
    back = whole(path)
    assert back.x.tolist() == [1.5, 4.5, 7.5] and back.z.tolist() == [-3, 6, 9]
    assert back.values("red").tolist() == [65535, 0, 128 * 257]
    path.write_bytes((head.encode() + data)[: len(head) + 30])
    if form != "ascii":
        with pytest.raises(InputError, match="2 of 3 points"):
            open_points(path)
        assert open_points(path, Reading(salvage=True)).cloud.count == 2


def test_a_table_of_others_holds_points_when_columns_say_so(tmp_path: Path) -> None:
    table = pyarrow.table({"lon": [1.0, 2.0], "lat": [3.0, 4.0], "h": [5.0, 6.5], "note": ["a", "b"]})
    parquet.write_table(table, tmp_path / "a.parquet")
    assert not holds_points(tmp_path / "a.parquet")
    back = whole(open_points(tmp_path / "a.parquet", Reading(("x", "y", "z", "-"))))
    assert back.x.tolist() == [1, 2] and back.z.tolist() == [5, 6.5]
    ours = write(tmp_path / "b.parquet", cloud(10))
    assert holds_points(ours) and parquet.read_table(ours).num_rows == 10


def test_an_octree_holds_each_point_once_in_the_cube_of_its_node(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(copc_files, "_BUCKET", 60_000)  # so that it is built in parts
    monkeypatch.setattr("zembrel.points.octree._LEAF", 5_000)
    block = cloud(200_000, side=400.0)
    block.records["Z"] //= 50  # a flat one
    path = write(tmp_path / "a.copc.laz", block)
    data = path.read_bytes()
    assert data[375 + 2 : 375 + 6] == b"copc" and data[24:26] == b"\x01\x04"
    plain = open_las(path)
    info = read_info(plain)
    assert info is not None
    nodes = nodes_of(plain, info)
    assert len({node[:4] for node in nodes}) == len(nodes) > 20 and sum(n.points for n in nodes) == 200_000
    keys = {node[:4] for node in nodes}
    assert all(n.level == 0 or (n.level - 1, n.x // 2, n.y // 2, n.z // 2) in keys for n in nodes), (
        "parents are there"
    )
    source = open_points(path)
    found = []
    for part in source.parts:
        held = source.read(part)
        low, high = np.array(part.bounds[:3]), np.array(part.bounds[3:])
        places = np.column_stack((held.x, held.y, held.z))
        assert (places >= low - 0.006).all() and (places <= high + 0.006).all()
        found.append(held.records)
    back, given = np.sort(np.concatenate(found)), np.sort(block.records)
    assert back.tobytes() == given.tobytes()
    assert whole(plain).records.tobytes() == np.concatenate(found).tobytes(), "it is a LAZ file too"
    counts = [open_points(path, Reading(resolution=r)).cloud.count for r in (100.0, 3.0, 1.0, 0.01)]
    assert counts == sorted(counts) and counts[0] < 30_000 and counts[-1] == 200_000
    coarse = whole(open_points(path, Reading(resolution=info.spacing)))
    cells = np.floor(
        (np.column_stack((coarse.x, coarse.y, coarse.z)) - [info.x, info.y, info.z]) / info.spacing
    )
    assert len(np.unique(cells, axis=0)) > 0.9 * len(coarse), "points of a level keep about their distance"


def test_an_octree_of_nothing_and_of_one_point(tmp_path: Path) -> None:
    for count in (0, 1):
        path = write(tmp_path / f"{count}.copc.laz", cloud(count))
        assert open_points(path).cloud.count == count == len(whole(path))
    plain = write(tmp_path / "a.laz", cloud(5)).rename(tmp_path / "plain.copc.laz")
    with pytest.raises(InputError, match="no octree"):
        open_points(plain)


def test_text_of_chosen_columns(tmp_path: Path) -> None:
    block = at([1.25, 2], [3, 4], [5, 6.5], **{"class": 2})
    for name, columns, lines in (
        ("a.xyz", None, ["730001.25 5100003.00 5.00", "730002.00 5100004.00 6.50"]),
        ("b.csv", ("z", "class"), ["z,class", "5.00,2", "6.50,2"]),
    ):
        new = NewFile(block.layout, block.scaling, HOME, False, columns=columns)
        flow([block], make_sink(tmp_path / name, new, tmp_path / name), LINEAR)
        assert (tmp_path / name).read_text().splitlines() == lines
    assert np.loadtxt(io.StringIO((tmp_path / "a.xyz").read_text())).shape == (2, 3)


FIELDS = (
    ExtraField("one", "u1"), ExtraField("two", "<i2"), ExtraField("four", "<u4"), ExtraField("eight", "<u8"),
    ExtraField("real", "<f4"), ExtraField("depth", "<u2", 1, (0.01,), (5.0,)), ExtraField("lifted", "<i2", 1, (), (9.0,)),
    ExtraField("trio", "<i2", 3), ExtraField("b", "i1"), ExtraField("raw", "V3"),
)  # fmt: skip


@pytest.mark.parametrize("ending", ["parquet", "ply", "csv", "txt"])
def test_extra_bytes_keep_their_types_and_what_is_lost_is_told(zembrel: Program, ending: str) -> None:
    block = cloud(200, Layout(6, FIELDS))
    chance = np.random.default_rng(7)
    for number in range(len(FIELDS)):
        stored = block.records[f"extra{number}"]
        if stored.dtype.kind in "iuf":
            low = -9 if stored.dtype.kind == "i" else 0
            block.records[f"extra{number}"] = chance.integers(low, 100, stored.shape).astype(stored.dtype)
    block.records["extra3"][:2] = [2**64 - 1, 2**53 + 1]
    write(zembrel.folder / "e.las", block)
    said = zembrel("convert", "e.las", "--out", f"o.{ending}", code=7).err
    lost = {"trio", "raw"} | ({"eight"} if ending == "ply" else set())
    assert all(f"{name} is lost: 200 points" in said for name in lost)
    head = (zembrel.folder / f"o.{ending}").read_bytes()[:4000]
    if ending == "parquet":
        types = {field.name: str(field.type) for field in parquet.read_schema(zembrel.folder / "o.parquet")}
        assert (types["one"], types["two"], types["four"], types["real"]) == (
            "uint8",
            "int16",
            "uint32",
            "float",
        )
    elif ending == "ply":
        assert all(
            line in head for line in (b"property uchar one", b"property short two", b"property uint four")
        )
    zembrel("convert", f"o.{ending}", "--from-crs", "EPSG:32626", "--out", "back.las")
    back = whole(zembrel.folder / "back.las")
    kept = [field for field in FIELDS if field.name not in lost]
    told = {f.name: (f.type, f.scale or (1.0,), f.offset or (0.0,)) for f in back.layout.extra}
    assert told == {f.name: (f.type, f.scale or (1.0,), f.offset or (0.0,)) for f in kept}
    for number, field in enumerate(FIELDS):
        if field in kept:
            stored = back.records[f"extra{kept.index(field)}"]
            assert (stored == block.records[f"extra{number}"]).all(), field.name
    assert back.layout.format == 6  # no colours


def test_a_single_letter_is_a_colour_only_with_the_others(zembrel: Program) -> None:
    (zembrel.folder / "a.txt").write_text("x y z b\n1 2 3 -9\n4 5 6 8\n")
    (zembrel.folder / "c.txt").write_text("x y z r g b\n1 2 3 9 8 7\n")
    assert "b" in whole(zembrel.folder / "a.txt").layout.names
    colours = whole(zembrel.folder / "c.txt")
    assert [int(colours.values(name)[0]) for name in ("red", "green", "blue")] == [9, 8, 7]


def test_records_of_users_that_go_are_told(zembrel: Program) -> None:
    record = Record("marrowick", 7, b"a survey of the isle", "its story")
    write(zembrel.folder / "e.las", cloud(20), first=(record,))
    assert "records of marrowick are lost" in zembrel("convert", "e.las", "--out", "o.parquet", code=7).err
    zembrel("convert", "e.las", "--out", "o.laz")
    assert b"a survey of the isle" in (zembrel.folder / "o.laz").read_bytes()
