"""Tables of cells and matrices: any separator, order and gap; and what is no grid."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.formats.lattice import lattice_of
from zembrel.grid.frame import Affine
from zembrel.grid.pane import Pane
from zembrel.raster.model import Raster

HEIGHTS = np.array([[1.5, 2.5, 3.5], [4.5, np.nan, 6.5]])
LINES = [
    (x, y, HEIGHTS[r, c]) for r, y in enumerate((20.0, 10.0)) for c, x in enumerate((100.0, 110.0, 120.0))
]


def read(path: Path) -> np.ndarray:
    raster_ = open_raster(path)
    block = raster_.cells(raster_.frame.pane)
    return np.where(block.valid_of(0), block.cells[0].astype(float), np.nan)


@pytest.mark.parametrize("sign", [" ", "   ", "\t", ",", ";", ", "])
@pytest.mark.parametrize("head", ["", "x{0}y{0}depth\n", "# from a boat\n"])
@pytest.mark.parametrize("order", [1, -1])
@pytest.mark.parametrize("ending", ["\n", "\r\n"])
def test_columns_of_any_dialect_are_one_grid(
    tmp_path: Path, sign: str, head: str, order: int, ending: str
) -> None:
    lines = [sign.join(f"{v:g}" for v in line) for line in LINES[::order] if line[2] == line[2]]
    path = tmp_path / "g.xyz"
    path.write_text(head.format(sign) + ending.join(lines) + ending, newline="")
    np.testing.assert_array_equal(read(path), HEIGHTS)
    found = open_raster(path)
    assert found.frame.affine == Affine(95.0, 25.0, 10.0, -10.0)
    assert found.bands[0].name == ("depth" if "depth" in head else "band1")


def test_decimal_commas_named_columns_and_empty_fields(tmp_path: Path) -> None:
    (tmp_path / "d.csv").write_text(
        "lat;lon;depth;kind\n20,0;100,0;1,5;3\n10,0;110,0;;4\n20,0;110,0;-7,25;NA\n"
    )
    found = open_raster(tmp_path / "d.csv")
    block = found.cells(found.frame.pane)
    assert [b.name for b in found.bands] == ["depth", "kind"]
    np.testing.assert_array_equal(block.cells[:, 0], [[1.5, -7.25], [3, 0]])
    np.testing.assert_array_equal(
        block.valid, [[[True, True], [False, False]], [[True, False], [False, True]]]
    )


def test_a_csv_without_coordinates_is_a_matrix(tmp_path: Path) -> None:
    (tmp_path / "m.csv").write_text("1.5,2.5,3.5\n4.5,,6.5\n")
    (tmp_path / "m.matrix.csv").write_text("1.5 2.5 3.5\n4.5 nan 6.5\n")
    # three numbers a line and no names are places and a value only where they make a grid
    np.testing.assert_array_equal(read(tmp_path / "m.matrix.csv"), HEIGHTS)
    (tmp_path / "w.csv").write_text("1,2\n3,4\n")
    np.testing.assert_array_equal(read(tmp_path / "w.csv"), [[1, 2], [3, 4]])


@pytest.mark.parametrize(
    "text, word",
    [
        ("1 2 3\n2 2\n", "line 2 of its data has 2 fields"),
        ("1 2 3\n2 2 x3\n", "'x3' in line 2"),
        ("1,2,3\n2 2 4\n", "line 2"),
        ("heights of the island\n", "no table of numbers"),
        ("", "no table of numbers"),
        ("1 2 3\n", "single place"),
        ("0 0 1\n10 0 2\n13 0 3\n0 10 4\n", "no grid"),
        ("1 nan 3\n2 2 4\n", "without coordinates"),
        ("1 2\n2 3\n", "2 column"),
    ],
)
def test_what_is_no_grid_is_named(tmp_path: Path, text: str, word: str) -> None:
    (tmp_path / "g.xyz").write_text(text)
    with pytest.raises(InputError) as caught:
        open_raster(tmp_path / "g.xyz")
    assert word in f"{caught.value.what} {caught.value.why}"


@given(
    st.integers(-10_000_000, 10_000_000),
    st.sampled_from([0.1, 0.25, 1 / 3, 2.5, 1 / 3600, 30.0, 0.3048]),
    st.integers(2, 400),
)
def test_a_lattice_is_found_to_the_last_bit_that_matters(first: int, step: float, count: int) -> None:
    start = first / 8
    middles = start + (np.arange(count) + 0.5) * step
    found = lattice_of(Path("x"), middles, middles, None, middles.size**2)
    assert found.columns == count
    columns = np.arange(float(count))
    close = max(1e-6 * step, 4 * np.spacing(np.abs(middles).max()))
    np.testing.assert_allclose(found.centres(columns, columns)[0], middles, rtol=0, atol=close)


def test_parquet_is_a_table_for_data_people(tmp_path: Path) -> None:
    cells, valid = random_cells(60, 70, kind="int16"), random_cells(60, 70, seed=2) > 60
    where = frame(70, 60, cell=1 / 3)
    path = save(tmp_path / "g.parquet", raster(cells, valid, where, unit="m"))
    table = pq.read_table(path)
    assert table.num_rows == valid.sum() + (not valid[0, 0]) + (not valid[-1, -1])
    rows, columns = np.nonzero(valid)
    known = table.filter(pa.compute.is_valid(table["band1"]))
    np.testing.assert_array_equal(known["band1"], cells[valid])
    x, y = where.centres(columns.astype(float), rows.astype(float))
    np.testing.assert_array_equal(known["x"], x)
    np.testing.assert_array_equal(known["y"], y)
    assert open_raster(path).frame == where and open_raster(path).bands[0].unit == "m"
    other = pa.table(
        {"lon": [1.0, 2.0, 1.0], "lat": [5.0, 5.0, 4.0], "name": ["a", "b", "c"], "depth": [7, None, 9]}
    )
    pq.write_table(other, tmp_path / "o.parquet")
    np.testing.assert_array_equal(read(tmp_path / "o.parquet"), [[7, np.nan], [9, np.nan]])
    (tmp_path / "b.parquet").write_bytes(path.read_bytes()[:200])
    pq.write_table(other.select(["name", "depth"]), tmp_path / "n.parquet")
    for name in ("b.parquet", "n.parquet"):
        with pytest.raises(InputError):
            open_raster(tmp_path / name)


def test_types_follow_the_numbers(tmp_path: Path) -> None:
    def kind(values: list[str]) -> str:
        path = tmp_path / "k.xyz"
        path.write_text("".join(f"{n} 0 {v}\n" for n, v in enumerate(values)) + "0 1 " + values[0] + "\n")
        found: Raster = open_raster(path)
        return found.bands[0].type

    assert kind(["1", "-40000"]) == "int32" and kind(["1.25", "0.1"]) == "float32"
    assert kind(["1", "3000000000"]) == "float64" and kind(["0.123456789", "1"]) == "float64"


def test_the_program_says_how_many_columns_are_due(tmp_path: Path) -> None:
    (tmp_path / "g.xyz").write_text("1 2 3\n2 2 4 5\n")
    program = Program(tmp_path)
    assert "has 4 fields where the first has 3" in program.refuses(3, "convert", "g.xyz", "--out", "g.tif")[1]


@pytest.mark.parametrize("ending", ["xyz", "parquet"])
def test_one_cell_far_away_takes_no_room_between(tmp_path: Path, ending: str) -> None:
    """A lattice of seven hundred million places, of which twelve hundred are filled."""
    rows, columns = np.mgrid[:30, :40]
    x, y = 730_000.0 + 5 * columns.ravel(), 5_100_000.0 - 5 * rows.ravel()
    x, y = np.append(x, 730_000.0 + 5 * 30_000), np.append(y, 5_100_000.0 - 5 * 24_000)
    value = np.arange(x.size, dtype=float)
    path = tmp_path / f"g.{ending}"
    if ending == "xyz":
        path.write_text("".join(f"{a} {b} {c}\n" for a, b, c in zip(x, y, value, strict=True)))
    else:
        pq.write_table(pa.table({"x": x, "y": y, "value": value}), path)
    source = open_raster(path)
    assert source.frame.pane.shape == (24_001, 30_001)
    here = source.cells(Pane(0, 0, 30, 40))
    assert here.valid is None and (here.cells[0] == value[:-1].reshape(30, 40)).all()
    last = source.cells(Pane(23_990, 29_990, 24_001, 30_001))
    assert last.valid is not None and last.valid.sum() == 1 and last.cells[0, -1, -1] == value[-1]


@pytest.mark.parametrize("share", [0.001, 0.9])
def test_cells_are_the_same_however_they_are_held(tmp_path: Path, share: float) -> None:
    chance = np.random.default_rng(7)
    places = chance.permutation(1_200 * 1_100)[: int(share * 1_200 * 1_100)]
    places = np.union1d(places, [0, 1, 1_100, 1_200 * 1_100 - 1])
    rows, columns = np.divmod(chance.permutation(places), 1_100)
    value = chance.random(rows.size)
    whole = np.full((1_200, 1_100), np.nan)
    whole[rows, columns] = value
    pq.write_table(
        pa.table({"x": columns + 0.5, "y": 1_200 - rows - 0.5, "value": value}), tmp_path / "g.parquet"
    )
    source = open_raster(tmp_path / "g.parquet")
    for pane in (source.frame.pane, Pane(100, 30, 700, 31), Pane(0, 900, 1, 1_100)):
        block, wanted = source.cells(pane), whole[pane.top : pane.bottom, pane.left : pane.right]
        known = block.valid_of(0)
        assert (known == ~np.isnan(wanted)).all() and (block.cells[0][known] == wanted[known]).all()


def test_a_lattice_that_is_all_but_empty_is_told(tmp_path: Path) -> None:
    """Found by `make fuzz`: a digit more in one coordinate, and no end of empty cells."""
    lines = [f"{730_000 + 5 * n % 200} {5_100_000 - 5 * n // 200} 1\n" for n in range(1_000)]
    (tmp_path / "g.xyz").write_text("".join([*lines, "73000000 51000000 2\n"]))
    with pytest.raises(InputError, match="no grid"):
        open_raster(tmp_path / "g.xyz")
