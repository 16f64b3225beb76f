"""The arithmetic of lattices."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rasters import HOME, frame
from zembrel.errors import InputError
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds, carried_cell
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.framefile import read_frame, write_frame
from zembrel.grid.pane import Pane

finite = st.floats(-1e7, 1e7, allow_subnormal=False)
sizes = st.floats(1e-6, 1e5, allow_subnormal=False)
counts = st.integers(1, 40_000)


@st.composite
def frames(draw: Any, turned: bool = True) -> Frame:
    cell, left, top = draw(sizes), draw(finite), draw(finite)
    turn = draw(st.sampled_from([0.0, 0.3])) if turned else 0.0
    affine = Affine(left, top, cell, -cell * draw(st.sampled_from([1, 1.5])), turn * cell, turn * cell)
    return Frame(HOME, affine, draw(counts), draw(counts), draw(st.sampled_from(["cell", "node"])))


@st.composite
def panes(draw: Any, most: int = 50_000) -> Pane:
    top, left = draw(st.integers(-most, most)), draw(st.integers(-most, most))
    return Pane(top, left, top + draw(counts), left + draw(counts))


@given(frames())
def test_a_saved_frame_reads_back_to_the_last_bit(tmp_path_factory: Any, made: Frame) -> None:
    path = tmp_path_factory.getbasetemp() / "any.frame.toml"
    path.write_text(write_frame(made))
    assert read_frame(path) == made


@given(frames(), panes())
def test_a_crop_knows_where_it_came_from(made: Frame, pane: Pane) -> None:
    if (
        max(abs(made.affine.x0), abs(made.affine.y0)) / min(made.cell) < 1e9
    ):  # beyond that a double cannot tell cells apart
        assert made.offset_to(made.crop(pane)) == (pane.top, pane.left)


@given(frames(turned=False), panes())
def test_cropping_rounds_once(made: Frame, pane: Pane) -> None:
    exact = Fraction(made.affine.x0) + pane.left * Fraction(made.affine.x_col)
    assert made.crop(pane).affine.x0 == float(exact)


@given(frames(), st.integers(0, 9999), st.integers(0, 9999))
def test_positions_undo_places(made: Frame, col: int, row: int) -> None:
    x, y = made.affine.at(float(col), float(row))
    back = made.affine.position(x, y)
    slack = 1e-12 * (abs(x) + abs(y) + abs(made.affine.x0) + abs(made.affine.y0)) / min(made.cell) + 1e-9
    assert np.hypot(back[0] - col, back[1] - row) <= slack


@given(panes(), panes())
def test_panes_meet_and_join_like_sets_of_cells(one: Pane, other: Pane) -> None:
    both, joined = one.meet(other), one.join(other)
    assert both == other.meet(one) and joined.holds(one) and joined.holds(other)
    rows = max(0, min(one.bottom, other.bottom) - max(one.top, other.top))
    columns = max(0, min(one.right, other.right) - max(one.left, other.left))
    assert (both.size if both else 0) == rows * columns
    assert both is None or (one.holds(both) and other.holds(both))


@given(st.integers(1, 300), st.integers(1, 300), st.integers(1, 70), st.integers(1, 70))
def test_blocks_cover_every_cell_once(rows: int, columns: int, down: int, across: int) -> None:
    seen = np.zeros((rows, columns), int)
    for block in Pane(0, 0, rows, columns).blocks(down, across):
        seen[block.top : block.bottom, block.left : block.right] += 1
    assert (seen == 1).all()


@given(finite, finite, st.floats(0.1, 5000), st.floats(0.1, 5000), st.sampled_from([0.25, 1.0, 2.0, 30.0]))
def test_snapped_frames_cover_their_bounds_and_share_a_lattice(
    west: float, south: float, wide: float, high: float, cell: float
) -> None:
    bounds = west, south, west + wide, south + high
    made, other = snapped(HOME, bounds, (cell, cell)), snapped(HOME, (0, 0, 1, 1), (cell, cell))
    assert made.offset_to(other) is not None
    slack = cell * 2e-4
    covered = made.bounds
    assert covered[0] <= west + slack and covered[1] <= south + slack
    assert covered[2] >= bounds[2] - slack and covered[3] >= bounds[3] - slack
    assert made.columns * cell <= wide + 2 * cell and made.rows * cell <= high + 2 * cell


def test_nodes_stay_on_whole_numbers_and_their_cells_reach_half_a_cell_further() -> None:
    nodes = snapped(by_code(4326), (-24, 46, -23, 47), (1 / 3600, 1 / 3600), registration="node")
    assert (nodes.columns, nodes.rows) == (3601, 3601)
    assert nodes.centres(np.array([0.0]), np.array([0.0])) == (
        pytest.approx(-24, abs=0),
        pytest.approx(47, abs=0),
    )
    assert nodes.bounds == pytest.approx(
        (-24 - 1 / 7200, 46 - 1 / 7200, -23 + 1 / 7200, 47 + 1 / 7200), abs=1e-12
    )


def test_node_and_cell_frames_on_one_lattice_line_up() -> None:
    cells = frame(10, 10)
    nodes = Frame(HOME, cells.affine.shifted(Fraction(1, 2), Fraction(1, 2)), 10, 10, "node")
    assert cells.offset_to(nodes) == (0, 0)
    assert cells.offset_to(Frame(HOME, cells.affine, 10, 10, "node")) is None


def test_a_lattice_that_drifts_by_a_part_of_a_cell_is_another() -> None:
    assert frame(10_000, 10).offset_to(frame(10_000, 10, cell=10.000_01)) is None
    assert frame(10, 10).offset_to(frame(10, 10, crs=by_code(32627))) is None


@pytest.mark.parametrize("columns, rows", [(0, 5), (5, 0), (-1, 5)])
def test_an_empty_frame_is_refused(columns: int, rows: int) -> None:
    with pytest.raises(InputError):
        frame(columns, rows)


@pytest.mark.parametrize("numbers", [(0, 0, 0, -1), (0, 0, float("nan"), -1), (0, float("inf"), 1, -1)])
def test_a_transform_that_spans_nothing_is_refused(numbers: tuple[float, ...]) -> None:
    with pytest.raises(InputError):
        Affine(*numbers)


def test_carried_bounds_hold_every_cell() -> None:
    there = by_code(32627)
    source = frame(800, 600)
    west, south, east, north = carried_bounds(source, there)
    cols, rows = np.meshgrid(np.linspace(-0.5, 799.5, 91), np.linspace(-0.5, 599.5, 77))
    lon_lat = source.crs.to_geographic(*source.centres(cols, rows))
    x, y = there.from_geographic(*lon_lat)
    assert west - 0.01 <= x.min() and x.max() <= east + 0.01
    assert south - 0.01 <= y.min() and y.max() <= north + 0.01


def test_native_resolution_is_kept_from_metres_to_metres_and_to_degrees() -> None:
    source = frame(800, 600, cell=2.5)
    assert carried_cell(source, by_code(32627)) == (2.5, 2.5)
    across, along = carried_cell(source, by_code(4326))
    assert across == along == pytest.approx(2.5 / 111_200, rel=0.01)


def test_longitudes_stay_between_half_turns_unless_the_antimeridian_is_crossed() -> None:
    assert carried_bounds(frame(800, 600), by_code(4326))[0] == pytest.approx(-24.03, abs=0.1)
    fiji = Frame(by_code(32760), Affine(810_000.0, 8_000_000.0, 1000.0, -1000.0), 100, 100)
    west, _, east, _ = carried_bounds(fiji, by_code(4326))
    assert west < 180 < east and east - west < 2


@pytest.mark.parametrize(
    "text, hint",
    [
        (
            "crs = 'EPSG:32626'\nleft = 1\ntop = 2\ncel = [1, 1]\ncolumns = 2\nrows = 2\n",
            "did you mean cell?",
        ),
        ("left = 'here'\ntop = 2\ncell = [1, 1]\ncolumns = 2\nrows = 2\n", "mend that line"),
        ("left = 1\ntop = 2\ncell = [1]\ncolumns = 2\nrows = 2\n", "write cell = [x, y]"),
        ("left = 1\ntop = 2\ncolumns = 2\nrows = 2\n", "add cell = ..."),
        ("left = = 1\n", "mend that line"),
    ],
)
def test_a_wrong_frame_file_is_refused_with_its_line(tmp_path: Path, text: str, hint: str) -> None:
    path = tmp_path / "wrong.frame.toml"
    path.write_text(text)
    with pytest.raises(InputError) as caught:
        read_frame(path)
    assert caught.value.remedy == hint
    assert str(path) in caught.value.what


def test_a_wrong_key_inside_a_file_that_is_no_text_is_told_without_a_line(tmp_path: Path) -> None:
    from zembrel.tomlfile import check_keys

    path = tmp_path / "a.parquet"
    for content, where in ((b"PAR1\xe0\x80", f"{path}: "), (b"# one\ncolour = 3\n", f"{path} line 2: ")):
        path.write_bytes(content)
        with pytest.raises(InputError) as caught:
            check_keys(path, {"colour": 3}, {"columns": int})
        assert caught.value.what == f"{where}unknown key 'colour'"
