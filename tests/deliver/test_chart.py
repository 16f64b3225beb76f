"""Nautical charts: read by a reader of the tests' own, placed by their polynomials, in colours that last."""

from __future__ import annotations

import csv
import json
import struct
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pytest

import zembrel as z
from program import Program
from rasters import ArrayRaster, frame, random_cells, raster, save
from zembrel.engine.run import run
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band
from zembrel.verbs.deliver import chart

LON, LAT = -23.9954, 46.0123  # of the marker


class Chart(NamedTuple):
    """Fields by key, one list for each line, colours by code, and codes of all cells."""

    fields: dict[str, list[list[str]]]
    colours: dict[int, tuple[int, ...]]
    codes: Any

    @property
    def size(self) -> tuple[int, int]:
        words = self.fields["BSB"][0]
        at = next(n for n, word in enumerate(words) if word.startswith("RA="))
        return int(words[at][3:]), int(words[at + 1])

    def known(self, name: str) -> str:
        return next(word[len(name) + 1 :] for word in self.fields["KNP"][0] if word.startswith(name + "="))

    def through(self, key: str, u: float, v: float) -> float:
        """A polynomial at a place: terms of the lowest power first, of each those of more u first."""
        order, *terms = self.fields[key][0]
        powers = [(total - j, j) for total in range(int(order) + 1) for j in range(total + 1)]
        return sum(float(c) * u**i * v**j for c, (i, j) in zip(terms, powers, strict=True))

    def picture(self) -> Any:
        return np.array([self.colours.get(n, (0, 0, 0)) for n in range(128)], np.uint8)[self.codes]


def read(path: Path) -> Chart:
    """A chart, byte by byte."""
    data = path.read_bytes()
    end = data.index(b"\x1a\x00")
    text = data[:end].decode("ascii").replace("\r\n    ", "")
    fields: dict[str, list[list[str]]] = {}
    for line in text.split("\r\n"):
        if line:
            key, words = line.split("/", 1)
            fields.setdefault(key, []).append(words.split(","))
    bits = data[end + 2]
    assert fields["IFM"] == [[str(bits)]] and all(len(line) <= 80 for line in data[:end].split(b"\r\n"))
    chart = Chart(fields, {int(c[0]): tuple(map(int, c[1:])) for c in fields["RGB"]}, None)
    columns, rows = chart.size
    (table,) = struct.unpack(">I", data[-4:])
    starts = struct.unpack(f">{rows}I", data[table:-4])
    assert starts[0] == end + 3
    lines = []
    for number, at in enumerate(starts):
        value = 0
        while True:
            value, more = value << 7 | data[at] & 127, data[at] & 128
            at += 1
            if not more:
                break
        assert value == number
        line: list[int] = []
        while data[at]:
            code, run = (data[at] & 127) >> (7 - bits), data[at] & ((1 << (7 - bits)) - 1)
            while data[at] & 128:
                at += 1
                run = run << 7 | data[at] & 127
            line += [code] * (run + 1)
            at += 1
        assert len(line) == columns and at + 1 == (*starts, table)[number + 1]
        lines.append(line)
    return chart._replace(codes=np.array(lines, np.uint8))


@pytest.fixture(scope="module")
def sheet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A photo of 4 m cells in zone 26 with a bright spot, and a corner where nothing is."""
    x, y = (float(v[0]) for v in by_code(32626).from_geographic(np.radians([LON]), np.radians([LAT])))  # type: ignore[union-attr]
    rows, columns = np.mgrid[:500, :700]
    frame = Frame(by_code(32626), Affine(x - 1411, y + 833, 4.0, -4.0), 700, 500)
    east, north = x - 1411 + 4 * columns + 2, y + 833 - 4 * rows - 2
    spot = 150 * np.exp(-((east - x) ** 2 + (north - y) ** 2) / (2 * 30**2))
    cells = np.stack([60 + spot + columns / 20, 70 + spot + rows / 9, 90 + spot + (rows + columns) / 30])
    cells += np.random.default_rng(3).integers(0, 6, (500, 700))
    path = tmp_path_factory.mktemp("sheet") / "photo.tif"
    save(
        path,
        raster(cells.clip(0, 255).astype(np.uint8), valid=~((rows < 150) & (columns < 200)), where=frame),
    )
    return path


def test_a_chart_lies_where_its_polynomials_and_its_points_say(sheet: Path, zembrel: Program) -> None:
    said = zembrel(
        "deliver", "chart", sheet, "--title", "Marrowick, north/east", "--out", "c.kap", "--json"
    ).json
    chart = read(zembrel.folder / "c.kap")
    assert chart.fields["BSB"][0][0] == "NA=Marrowick north east" and chart.known("PR") == "MERCATOR"
    assert 2 <= len(chart.colours) <= 127 and set(np.unique(chart.codes)) <= set(chart.colours)
    picture = chart.picture().astype(float)
    bright = np.where(picture[..., 0] > 170, picture[..., 0] - 120, 0) * (picture.min(axis=2) < 250)
    column = bright.sum(0) @ np.arange(bright.shape[1]) / bright.sum()
    row = bright.sum(1) @ np.arange(bright.shape[0]) / bright.sum()
    assert (
        abs(chart.through("WPX", LON, LAT) - column) < 0.5 and abs(chart.through("WPY", LON, LAT) - row) < 0.5
    )
    assert len(chart.fields["REF"]) >= 4 and len(chart.fields["PLY"]) >= 4
    for _, u, v, lat, lon in (map(float, words) for words in chart.fields["REF"]):
        assert chart.through("WPX", lon, lat) == pytest.approx(u, abs=0.1)
        assert chart.through("WPY", lon, lat) == pytest.approx(v, abs=0.1)
        assert chart.through("PWX", u, v) == pytest.approx(lon, abs=2e-6)
        assert chart.through("PWY", u, v) == pytest.approx(lat, abs=2e-6)
    assert (picture[5, 5] == 255).all(), "what is void is white"
    assert float(chart.known("SC")) == pytest.approx(4 * 254 / 0.0254, rel=0.01)
    assert next(f for f in said["checks"] if f["fact"] == "colours_unlike")["mean"] < 2.5


def test_a_chart_is_read_as_a_raster_and_converted(sheet: Path, zembrel: Program) -> None:
    zembrel("deliver", "chart", sheet, "--out", "c.kap")
    there, own = z.open(zembrel.folder / "c.kap"), read(zembrel.folder / "c.kap")
    assert there.frame.crs.code == 3395 and there.frame.north_up
    assert (there.cells(there.frame.pane).cells[0] == own.codes).all()
    zembrel("convert", "c.kap", "--rgb", "--out", "c.tif")
    back = z.open(zembrel.folder / "c.tif")
    assert (np.moveaxis(back.cells(back.frame.pane).cells, 0, -1) == own.picture()).all()
    assert "deliver chart" in zembrel.refuses(4, "convert", "c.tif", "--out", "d.kap")[2]


def test_few_colours_stay_as_they_are_and_scale_sets_the_cells(zembrel: Program) -> None:
    where = Frame(by_code(3395), Affine(-2_672_000, 5_750_000, 14.4, -14.4), 300, 200)
    codes = (np.add.outer(np.arange(200) // 9, np.arange(300) // 11) % 4).astype(np.uint8)
    colours = [(12, 90, 200), (13, 90, 200), (230, 220, 90), (0, 0, 0)]
    legend = Legend.of(LegendEntry(n, f"c{n}", colour) for n, colour in enumerate(colours))
    save(zembrel.folder / "cover.tif", ArrayRaster(where, (Band("c", "uint8", legend=legend),), codes[None]))
    zembrel("deliver", "chart", "cover.tif", "--out", "c.kap")
    chart = read(zembrel.folder / "c.kap")
    assert (chart.picture() == np.array(colours, np.uint8)[codes]).all()
    assert chart.fields["IFM"] == [["3"]] and len(chart.colours) == 5
    zembrel("deliver", "chart", "cover.tif", "--scale", "50000", "--out", "d.kap")
    finer = read(zembrel.folder / "d.kap")
    assert finer.known("SC") == "50000" and finer.size[0] == pytest.approx(300 * 10.01 / 5, rel=0.01)


def test_charts_of_a_folder_have_a_catalogue_and_panels_meet(sheet: Path, zembrel: Program) -> None:
    where = Frame(by_code(32626), Affine(730_000, 5_100_000, 20.0, -20.0), 90, 60)
    save(zembrel.folder / "other.tif", raster(np.full((3, 60, 90), 77, np.uint8), where=where))
    zembrel("deliver", "chart", sheet, "other.tif", "--panels", "2x2", "--number", "7", "--out", "charts/")
    names = {path.name for path in (zembrel.folder / "charts").iterdir()}
    assert names == {f"{n}-{k}.kap" for n in ("photo", "other") for k in range(1, 5)} | {
        "charts.csv",
        "charts.geojson",
    }
    rows = list(csv.DictReader((zembrel.folder / "charts/charts.csv").open()))
    shapes = json.loads((zembrel.folder / "charts/charts.geojson").read_text())["features"]
    assert [row["file"] for row in rows] == [shape["properties"]["file"] for shape in shapes] and len(
        rows
    ) == 8
    whole = zembrel("deliver", "chart", sheet, "--out", "c.kap") and read(zembrel.folder / "c.kap")
    parts = [read(zembrel.folder / f"charts/photo-{n}.kap") for n in range(1, 5)]
    joined = np.block([[parts[0].codes, parts[1].codes], [parts[2].codes, parts[3].codes]])
    assert (joined == whole.codes).all() and rows[0]["name"] == "photo panel 1" and rows[0]["number"] == "7-1"
    west, north = float(rows[1]["west"]), float(rows[1]["north"])
    assert west == pytest.approx(float(rows[0]["east"]), abs=1e-8) and north == float(rows[0]["north"])


@pytest.mark.parametrize("break_it", [
    lambda d: d[:-5], lambda d: d[: len(d) // 2], lambda d: d.replace(b"RA=", b"XX="), lambda d: d.replace(b"REF/", b"RXF/"),
    lambda d: d.replace(b"IFM/7", b"IFM/4"), lambda d: d.replace(b"RGB/1,", b"RGB/0,"), lambda d: d.replace(b"RA=", b"RA=9"),
    lambda d: d.replace(b"\x1a\x00", b"\x1a\x1a", 1), lambda d: d[:-900] + bytes([d[-900] ^ 64]) + d[-899:],
    lambda d: d.replace(b"RA=", b"RA=nan,"), lambda d: d.replace(b"RGB/2,", b"RGB/2,inf,"), lambda d: b"", lambda d: b"VER/3.0\r\n",
])  # fmt: skip
def test_a_damaged_chart_is_refused(sheet: Path, zembrel: Program, break_it: Any) -> None:
    zembrel("deliver", "chart", sheet, "--out", "c.kap")
    (zembrel.folder / "d.kap").write_bytes(break_it((zembrel.folder / "c.kap").read_bytes()))
    zembrel.refuses(3, "convert", "d.kap", "--out", "d.tif")


def test_rows_may_begin_at_one_and_a_datum_may_be_shifted(sheet: Path, zembrel: Program) -> None:
    zembrel("deliver", "chart", sheet, "--out", "c.kap")
    data = (zembrel.folder / "c.kap").read_bytes()
    (zembrel.folder / "d.kap").write_bytes(_moved(data, b"DTM/0.0,0.0", b"DTM/3.6,7.2"))
    here, there = (z.open(zembrel.folder / name).frame for name in ("c.kap", "d.kap"))
    assert there.affine.x0 - here.affine.x0 == pytest.approx(0.002 * 111319.49, rel=1e-3)
    assert there.affine.y0 - here.affine.y0 == pytest.approx(0.001 * 111319.49 * 1.44, rel=0.01)


def _moved(data: bytes, old: bytes, new: bytes) -> bytes:
    """A header of another text, as long as before."""
    assert len(old) == len(new) and data.count(old) == 1
    return data.replace(old, new)


@pytest.mark.parametrize(
    "code, words",
    [
        (2, ("--out", "c.tif")), (2, ("--colours", "128", "--out", "c.kap")), (2, ("--dither", "maybe", "--out", "c.kap")),
        (2, ("--panels", "2x2", "--out", "c.kap")), (2, ("--panels", "0x2", "--out", "c/")), (2, ("--scale", "5", "--out", "c.kap")),
        (3, ("--within", "0,0,9,9", "--out", "c.kap")), (4, ("--ceiling", "1kB", "--out", "c.kap")),
    ],
)  # fmt: skip
def test_a_chart_that_cannot_be_is_refused(
    sheet: Path, zembrel: Program, code: int, words: tuple[str, ...]
) -> None:
    zembrel.refuses(code, "deliver", "chart", sheet, *words)


def test_a_chart_across_the_antimeridian_says_the_phase_of_its_longitudes(zembrel: Program) -> None:
    where = Frame(by_code(4326), Affine(179.9, 60.0, 0.001, -0.001), 200, 100)
    save(zembrel.folder / "a.tif", raster(np.full((3, 100, 200), 77, np.uint8), where=where))
    zembrel("deliver", "chart", "a.tif", "--out", "a.kap")
    chart, there = read(zembrel.folder / "a.kap"), z.open(zembrel.folder / "a.kap")
    assert chart.fields["CPH"] == [["180.0"]]
    for _, u, v, lat, lon in (map(float, words) for words in chart.fields["REF"]):
        assert -180 <= lon <= 180
        assert chart.through("WPX", lon % 360, lat) == pytest.approx(u, abs=0.1)
        assert chart.through("WPY", lon % 360, lat) == pytest.approx(v, abs=0.1)
    assert there.frame.columns * there.frame.cell[0] == pytest.approx(0.2 * 111319.49, rel=0.02)
    assert zembrel("standin", "device", "plotter", "a.kap").out.startswith("plotter accepted")


def test_colours_that_no_spot_has_count_too(zembrel: Program) -> None:
    """A map of few colours but for one corner of many, between the spots that are looked at first."""
    cells = np.zeros((3, 3000, 3000), np.uint8)
    cells[:, 130:150, 130:150] = np.random.default_rng(1).integers(0, 256, (3, 20, 20))
    where = Frame(by_code(3395), Affine(-2_672_000, 5_750_000, 10.0, -10.0), 3000, 3000)
    save(zembrel.folder / "a.tif", raster(cells, where=where))
    zembrel("deliver", "chart", "a.tif", "--out", "a.kap")
    assert len(z.open(zembrel.folder / "a.kap").bands[0].legend.entries) > 60


def test_charts_of_a_folder_are_no_inputs_of_a_rerun_and_few_colours_fit_a_device(zembrel: Program) -> None:
    where = Frame(by_code(32626), Affine(730_000, 5_100_000, 20.0, -20.0), 90, 60)
    (zembrel.folder / "in").mkdir()
    save(zembrel.folder / "in/one.tif", raster(np.full((3, 60, 90), 77, np.uint8), where=where))
    (zembrel.folder / "d.device.toml").write_text('title = "old plotter"\nkinds = ["chart"]\ncolours = 15\n')
    (zembrel.folder / "card").mkdir()
    carry = ("--carry-to", "card", "--device", "d.device.toml", "--json")
    for more in ((), ("--replace",)):
        ran = zembrel("deliver", "chart", "in", "--out", "in/charts/", *carry, *more)
        assert ran.json["inputs"] == ["in/one.tif"]
    assert (zembrel.folder / "card/charts/one.kap").exists()


def test_a_chart_that_does_not_read_back_is_told_by_its_own_name(
    zembrel: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(3, 60, 60), where=frame(60, 60)))

    def cut(view: Any, sink: Any, limits: Any) -> None:
        run(view, sink, limits)
        path = Path(sink.store.file.name)
        path.write_bytes(path.read_bytes()[:-40])

    monkeypatch.setattr(chart, "run", cut)
    said = zembrel("deliver", "chart", "a.tif", "--out", "c.kap", code=5).err
    assert "c.kap is no sound chart" in said and ".zembrel-part" not in said
    assert not (zembrel.folder / "c.kap").exists()
