"""Options that mean nothing are told with their line before the first step of a job runs."""

from __future__ import annotations

import numpy as np
import pytest

import depth
from program import Program
from rasters import frame, raster, save

JOB = """[[step]]
id = "half"
verb = "resample"
inputs = "dem.tif"
cell = "20m"
out = "half.tif"
[[step]]
id = "lines"
verb = "contour"
inputs = "@half"
interval = 50
out = "lines.geojson"
[[step]]
id = "last"
verb = "{verb}"
inputs = "{inputs}"
{rest}
out = "{out}"
"""
# verb, inputs, result, options of which the first is wrong, and what is told
WRONG = [
    ("deliver pyramid", "@half", "o.mbtiles", 'tile-format = "pgn"', "pgn"), ("reproject", "@half", "o.tif", 'crs = "EPSG:99999"', "99999"),
    ("resample", "@half", "o.tif", 'method = "cubik"\ncell = "40m"', "cubik"), ("convert", "@half", "o.tif", 'type = "uint7"', "uint7"),
    ("convert", "@half", "o.tif", 'compress = "zipp"', "zipp"), ("terrain", "@half", "o.tif", 'of = ["slop"]', "slop"),
    ("deliver chips", "@half", "o/", 'form = "pgn"\ncells = 16', "pgn"), ("deliver heightmap", "@half", "o/", "size = 64", "64"),
    ("tile", "@half", "o/", 'split = "2y2"', "2y2"), ("classify", "@half", "o.tif", 'rule = ["1=value >< 3"]', "value ><"), ("mask", "@half", "o.tif", 'where = "value >< 3"', "value ><"),
    ("draw", "@half", "o.png", 'ramp = "rainbo"', "rainbo"), ("rasterize", "@lines", "o.tif", 'overlap = "larger"\ncell = "10m"', "larger"),
    ("deliver globe", "@lines", "o.kmz", "opacity = 2", "2"),
]  # fmt: skip


@pytest.fixture
def desk(zembrel: Program) -> Program:
    rows, columns = np.mgrid[:120, :150]
    save(zembrel.folder / "dem.tif", raster((rows + 2 * columns).astype(np.float32), where=frame(150, 120)))
    return zembrel


@pytest.mark.parametrize(
    ("verb", "inputs", "out", "rest", "wrong"),
    depth.some(WRONG, WRONG[::3]),
    ids=[row[0] + " " + row[4] for row in WRONG],
)
def test_a_wrong_option_of_a_later_step_stops_the_job_before_the_first(
    desk: Program, verb: str, inputs: str, out: str, rest: str, wrong: str
) -> None:
    (desk.folder / "j.job.toml").write_text(JOB.format(verb=verb, inputs=inputs, rest=rest, out=out))
    for words in ((), ("--dry-run",)):
        what, _, _ = desk.refuses(3, "run", "j.job.toml", *words)
        assert what.startswith("j.job.toml line 17: step last") and wrong in what


def test_what_an_earlier_run_left_in_the_place_of_an_input_says_nothing(desk: Program) -> None:
    """The file that stands there has cells of metres; the one that is about to be made has degrees."""
    save(desk.folder / "half.tif", raster(np.zeros((5, 5), np.float32), where=frame(5, 5)))
    text = """[[step]]\nid = "a"\nverb = "reproject"\ninputs = "dem.tif"\ncrs = "EPSG:4326"\nout = "half.tif"
[[step]]\nid = "b"\nverb = "resample"\ninputs = "{}"\ncell = "0.001deg"\nout = "o.tif"\n"""
    for number, inputs in enumerate(("@a", "half.tif")):
        (desk.folder / f"{number}.job.toml").write_text(text.format(inputs))
        desk("run", f"{number}.job.toml", "--replace")
        (desk.folder / "o.tif").unlink()


def test_an_argument_that_is_missing_stops_the_job_before_the_first(desk: Program) -> None:
    first = '[[step]]\nid = "a"\nverb = "resample"\ninputs = "dem.tif"\ncell = "20m"\nout = "half.tif"\n'
    (desk.folder / "j.job.toml").write_text(
        f'{first}[[step]]\nid = "b"\nverb = "standin device"\nname = "phone"\n'
    )
    what, why, remedy = desk.refuses(3, "run", "j.job.toml")
    assert "standin device needs name and pack" in what and why == "there is no pack" and "pack =" in remedy
