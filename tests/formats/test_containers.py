"""What archives and quilts may hold: nothing stands for a file outside, and nothing grows beyond what is there."""

from __future__ import annotations

import zipfile
from pathlib import Path

import h5py
import numpy as np
import pytest

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.formats import archives
from zembrel.formats.origin import Origin


@pytest.fixture
def sheets(zembrel: Program) -> Program:
    for n in range(3):
        save(zembrel.folder / f"s.{n}.tif", raster(random_cells(1, 20, 20, seed=n), where=frame(20, 20)))
    zembrel("mosaic", "s.0.tif", "s.1.tif", "--out", "two.quilt.toml")
    return zembrel


def packed(folder: Path, **members: Path | str) -> Path:
    path = folder / "a.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name, held in members.items():
            archive.writestr(name, held if isinstance(held, str) else held.read_bytes())
    return path


def test_a_member_never_stands_for_a_file_outside(sheets: Program) -> None:
    text = (sheets.folder / "two.quilt.toml").read_text()
    outside = text.replace("s.0.tif", str(sheets.folder / "s.0.tif"))
    packed(sheets.folder, **{"two.quilt.toml": outside, "s.1.tif": sheets.folder / "s.1.tif"})
    said = sheets("convert", "a.zip", "--layer", "two.quilt.toml", "--out", "o.tif", code=3).err
    assert "names s.0.tif, which is not in it" in said


def test_a_member_of_a_path_upwards_keeps_its_name_within_the_archive(sheets: Program) -> None:
    packed(sheets.folder, **{"../../s.2.tif": sheets.folder / "s.2.tif"})
    assert str(Path("a.zip") / "s.2.tif") in sheets("describe", "a.zip").out
    assert not (sheets.folder.parent.parent / "s.2.tif").exists()


def test_members_that_share_a_stem_are_unpacked_once(
    sheets: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    packed(sheets.folder, **{f"s.{n}.tif": sheets.folder / f"s.{n % 3}.tif" for n in range(60)})
    done: list[object] = []
    real = archives._copy
    monkeypatch.setattr(archives, "_copy", lambda *given: (done.append(given), real(*given)))
    found = archives.members(Origin.of(sheets.folder / "a.zip"), None, lambda path: True)
    assert len(found) == len(done) == 60


def test_a_quilt_that_holds_itself_is_refused(sheets: Program) -> None:
    text = (sheets.folder / "two.quilt.toml").read_text()
    (sheets.folder / "own.quilt.toml").write_text(text.replace("s.0.tif", "own.quilt.toml"))
    assert "one of them holds itself" in sheets("convert", "own.quilt.toml", "--out", "o.tif", code=3).err


@pytest.mark.parametrize("way", ["link", "storage", "virtual"])
def test_an_hdf5_file_that_leads_to_others_is_refused(zembrel: Program, way: str) -> None:
    with h5py.File(zembrel.folder / "other.h5", "w") as file:
        file["secret"] = np.arange(12.0).reshape(3, 4)
    (zembrel.folder / "other.raw").write_bytes(bytes(96))
    with h5py.File(zembrel.folder / "a.h5", "w") as file:
        file["own"] = np.zeros((3, 4))
        if way == "link":
            file["in"] = h5py.ExternalLink("other.h5", "/secret")
        elif way == "storage":
            file.create_dataset("in", (3, 4), "f8", external=[("other.raw", 0, 96)])
        else:
            layout = h5py.VirtualLayout((3, 4), "f8")
            layout[:] = h5py.VirtualSource("other.h5", "secret", (3, 4))
            file.create_virtual_dataset("in", layout)
    said = zembrel("describe", "a.h5", code=3).err
    assert "leads to other files" in said and "other." in said
