"""What is added in one place works on every path, or is refused: tried on a copy of the package."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import tifffile

import zembrel
from points.clouds import cloud, write
from rasters import frame, raster, save
from zembrel.formats import open_raster

SOURCE = Path(zembrel.__file__).parent


class Copy:
    """The package in a folder of its own, of which places may be changed."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        shutil.copytree(SOURCE, folder / "src/zembrel", ignore=shutil.ignore_patterns("__pycache__"))

    def put(self, path: str, before: str, text: str, *, first: bool = False) -> None:
        """Put text before a line of a file, which stands there once, or (first) before the first such line."""
        place = self.folder / "src/zembrel" / path
        whole = place.read_text()
        assert whole.count(before) == 1 or (first and before in whole), f"{path} has changed: {before}"
        place.write_text(whole.replace(before, text + before, 1))

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        more = () if "--help" in words else ("--json",)
        return self._process("-m", "zembrel", *words, *more)

    def python(self, code: str) -> subprocess.CompletedProcess[str]:
        return self._process("-c", code)

    def _process(self, *words: str) -> subprocess.CompletedProcess[str]:
        environment = os.environ | {
            "PYTHONPATH": str(self.folder / "src"),
            "NUMBA_CACHE_DIR": str(self.folder / "kernels"),
        }
        return subprocess.run(
            (sys.executable, *words),
            cwd=self.folder,
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )


@pytest.fixture
def copy(tmp_path: Path) -> Copy:
    return Copy(tmp_path)


@pytest.mark.deep
def test_a_statistic_is_one_record(copy: Copy) -> None:
    copy.put(
        "statistics.py",
        '    "mean": StatisticRecord(',
        """    "range": StatisticRecord(
        ("count", "low", "high"), lambda p: _known(p, p.high - p.low), lambda v, _: v.max() - v.min()
    ),
""",
    )
    cells = np.random.default_rng(1).normal(0, 5, (40, 60)).astype(np.float32)
    save(copy.folder / "a.tif", raster(cells, where=frame(60, 40)))
    where = frame(60, 40)
    west, south, east, north = where.bounds
    ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
    zone = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
    crs = {"type": "name", "properties": {"name": "EPSG:32626"}}
    (copy.folder / "z.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "crs": crs, "features": [zone]})
    )
    said = copy.run("tally", "a.tif", "--zones", "z.geojson", "--stat", "range", "--out", "o.geojson")
    assert said.returncode == 0, said.stdout + said.stderr
    made = json.loads((copy.folder / "o.geojson").read_text())["features"][0]["properties"]
    assert made["range"] == pytest.approx(float(np.ptp(cells)), rel=1e-6)
    block = cloud(5_000, side=10.0)
    write(copy.folder / "p.laz", block)
    said = copy.run("grid", "p.laz", "--cell", "10m", "--stat", "range", "--stat", "median", "--out", "g.tif")
    assert said.returncode == 0, said.stdout + said.stderr
    found = tifffile.imread(copy.folder / "g.tif")
    assert np.nanmax(found[..., 0]) == pytest.approx(float(np.ptp(block.z)), rel=1e-6)


@pytest.mark.deep
@pytest.mark.parametrize("weighted", [True, False])
def test_a_kernel_is_a_record_and_its_weights(copy: Copy, weighted: bool) -> None:
    """Without its weights it gives nothing, never those of another kernel."""
    copy.put("raster/method.py", '    "mean": MethodKind(', '    "hermite": MethodKind(7, 1.0),\n')
    if weighted:
        copy.put(
            "raster/kernels/weights.py",
            "    return math.nan",
            "    if code == 7:\n        return (2.0 * t - 3.0) * t * t + 1.0 if t < 1.0 else 0.0\n",
        )
    cells = np.random.default_rng(2).normal(50, 9, (12, 14))
    save(copy.folder / "a.tif", raster(cells, where=frame(14, 12)))
    said = copy.run("resample", "a.tif", "--cell", "7m", "--method", "hermite", "--out", "o.tif")
    if not weighted:
        assert said.returncode != 0 or not np.isfinite(tifffile.imread(copy.folder / "o.tif")).any()
        return
    assert said.returncode == 0, said.stdout + said.stderr
    where, own = open_raster(copy.folder / "o.tif").frame, frame(14, 12).bounds
    found, n = tifffile.imread(copy.folder / "o.tif"), np.arange(3, 8) + 0.5
    along = (where.bounds[0] + n * 7 - own[0]) / 10 - 0.5
    down = (own[3] - where.bounds[3] + n * 7) / 10 - 0.5

    def mixed(values: np.ndarray, at: np.ndarray) -> np.ndarray:
        low = np.floor(at).astype(int)
        t = (at - low).reshape(-1, *[1] * (values.ndim - 1))
        return values[low] * ((2 * t - 3) * t * t + 1) + values[low + 1] * (
            (2 * (1 - t) - 3) * (1 - t) ** 2 + 1
        )

    due = mixed(mixed(cells, down).T, along).T
    np.testing.assert_allclose(found[3:8, 3:8], due, atol=1e-6)


@pytest.mark.deep
def test_a_pack_is_one_record(copy: Copy) -> None:
    copy.put(
        "deliver/packs/kinds.py",
        '    "gpkg": PackKind(',
        """    "box": PackKind(
        "a box of tiles", ".box", lambda path, _, names: ZipPack(path, names), tilereading.of_zip, tilereading.of_zip,
        rows_asked=True,
    ),
""",
    )
    save(copy.folder / "a.tif", raster(np.full((3, 300, 300), 99, np.uint8), where=frame(300, 300)))
    said = copy.run("deliver", "pyramid", "a.tif", "--out", "o.box")
    assert said.returncode == 0 and (copy.folder / "o.box").read_bytes()[:2] == b"PK", (
        said.stdout + said.stderr
    )
    said = copy.run("deliver", "pyramid", "a.tif", "--out", "o.crate")
    assert said.returncode == 2 and ".box" in said.stdout and not (copy.folder / "o.crate").exists()


@pytest.mark.deep
def test_an_option_is_one_field(copy: Copy) -> None:
    copy.put(
        "verbs/mask.py",
        "    keep: Annotated[",
        '    loud: Annotated[str | None, OptionText("Say this.", "WORD")] = None,\n',
    )
    copy.put(
        "verbs/mask.py", "    if ", "    if loud is not None:\n        raise RuntimeError(loud)\n", first=True
    )
    save(copy.folder / "a.tif", raster(np.ones((4, 4), np.float32), where=frame(4, 4)))
    assert "--loud WORD" in copy.run("mask", "--help").stdout
    said = copy.run("mask", "a.tif", "--where", "value < 0", "--loud", "hey", "--out", "o.tif")
    assert "RuntimeError: hey" in said.stdout + said.stderr
    (copy.folder / "j.job.toml").write_text(
        '[[step]]\nid = "a"\nverb = "mask"\ninputs = "a.tif"\nwhere = "value < 0"\nloud = "hey"\nout = "o.tif"\n'
    )
    said = copy.run("run", "j.job.toml")
    assert "RuntimeError: hey" in said.stdout + said.stderr
    call = "import zembrel\nzembrel.mask('a.tif', where='value < 0', loud='hey', out='o.tif')"
    assert "RuntimeError: hey" in copy.python(call).stderr


@pytest.mark.deep
def test_a_verb_is_one_file_and_one_record(copy: Copy) -> None:
    (copy.folder / "src/zembrel/verbs/whisper.py").write_text('''"""whisper: write a text."""

from __future__ import annotations

from typing import Annotated

from zembrel.engine.commit import Staging
from zembrel.optiontext import OptionText
from zembrel.inputs.options import Output
from zembrel.results.receipt import Receipt


def whisper(output: Output, *, text: Annotated[str, OptionText("What.", "TEXT")] = "psst") -> Receipt:
    with Staging(output.replace) as staging:
        staging.write_text(output.path, text)
        staging.publish()
    return Receipt("whisper", out=output.out)
''')
    copy.put(
        "verbtable/checking.py",
        '    Verb(\n        "compare"',
        """    Verb(
        "whisper", "write a text", function="whisper.whisper", help="Write a text.",
        example="zembrel whisper --out a.txt",
    ),
""",
    )
    assert "whisper" in copy.run("--help").stdout and "--text TEXT" in copy.run("whisper", "--help").stdout
    assert copy.run("whisper", "--text", "hush", "--out", "a.txt").returncode == 0
    assert copy.python("import zembrel\nzembrel.whisper(out='b.txt', text='hush')").returncode == 0
    (copy.folder / "j.job.toml").write_text(
        '[[step]]\nid = "a"\nverb = "whisper"\ntext = "hush"\nout = "c.txt"\n'
    )
    said = copy.run("run", "j.job.toml")
    assert said.returncode == 0, said.stdout
    assert {(copy.folder / name).read_text() for name in ("a.txt", "b.txt", "c.txt")} == {"hush"}
