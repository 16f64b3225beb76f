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

    def put(self, path: str, before: str, text: str) -> None:
        """Put text before a line of a file."""
        place = self.folder / "src/zembrel" / path
        whole = place.read_text()
        assert whole.count(before) == 1, f"{path} has changed: {before}"
        place.write_text(whole.replace(before, text + before))

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        environment = os.environ | {
            "PYTHONPATH": str(self.folder / "src"),
            "NUMBA_CACHE_DIR": str(self.folder / "kernels"),
        }
        words = (sys.executable, "-m", "zembrel", *words, "--json")
        return subprocess.run(
            words, cwd=self.folder, env=environment, capture_output=True, text=True, check=False
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
