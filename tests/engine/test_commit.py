"""Who owns what is under way, what may be replaced, and by whom."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from zembrel import owned
from zembrel.engine.commit import Staging, check_free
from zembrel.errors import InputError, RefusedError, ResourceError

HOLD = (
    "import sys, time; from pathlib import Path; from zembrel.engine.commit import Staging;"
    "s = Staging(); s.path_for(Path(sys.argv[1]) / 'x.tif').write_text('half');"
    "print('ready', flush=True); time.sleep(60)"
)


@pytest.fixture(autouse=True)
def sweeping_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(owned, "_AGAIN", 0.0)


@pytest.fixture
def other(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[subprocess.Popen[str]]:
    """Another process, in a PID namespace of its own if asked for, that has begun to write."""
    apart = ["unshare", "--pid", "--fork", "--kill-child"] if getattr(request, "param", False) else []
    if apart and subprocess.run([*apart, "true"], capture_output=True, check=False).returncode:
        pytest.skip("this machine lets us make no namespace")
    command = [*apart, sys.executable, "-c", HOLD, str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdout.readline() == "ready\n"
        yield process
        process.kill()


def listing(folder: Path) -> set[str]:
    return {path.name for path in folder.iterdir()}


@pytest.mark.parametrize("other", [False, True], indirect=True, ids=["here", "another PID namespace"])
def test_what_is_under_way_is_swept_when_its_run_is_gone_and_not_before(
    tmp_path: Path, other: subprocess.Popen[str]
) -> None:
    before = listing(tmp_path)
    for name, left in (("y.txt", before | {"y.txt"}), ("z.txt", {"y.txt", "z.txt"})):
        with Staging() as staging:
            staging.write_text(tmp_path / name, "whole")
            staging.publish()
        assert listing(tmp_path) == left
        other.kill()
        other.wait(20)
        time.sleep(0.2)


def test_temporary_folders_are_swept_like_staging(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    code = "import os; from zembrel.owned import temporary; kept = temporary(); os._exit(9)"
    subprocess.run([sys.executable, "-c", code], check=False, env=os.environ | {"TMPDIR": str(tmp_path)})
    (tmp_path / "zembrel-run-notes").mkdir()
    assert len(listing(tmp_path)) == 3
    here = owned.temporary()
    assert listing(tmp_path) == {"zembrel-run-notes", here.path.name, here.path.name + ".lock"}
    here.remove()
    assert listing(tmp_path) == {"zembrel-run-notes"}


def test_of_two_writers_without_replacing_one_succeeds(tmp_path: Path) -> None:
    said: list[str] = []
    stagings = [Staging() for _ in range(8)]
    for n, staging in enumerate(stagings):
        staging.write_text(tmp_path / "a.shp", f"main of {n}")
        staging.write_text(tmp_path / "a.dbf", f"table of {n}")

    def publish(n: int) -> None:
        try:
            stagings[n].publish()
            said.append(str(n))
        except RefusedError as exc:
            assert "another run has made it" in exc.why

    threads = [threading.Thread(target=publish, args=(n,)) for n in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    (won,) = said
    for staging in stagings:
        staging.__exit__(None, None, None)
    assert (tmp_path / "a.shp").read_text() == f"main of {won}"
    assert (tmp_path / "a.dbf").read_text() == f"table of {won}"
    assert listing(tmp_path) == {"a.shp", "a.dbf"}


def test_no_folder_pipe_or_device_is_ever_replaced(tmp_path: Path) -> None:
    for name in ("photos.tif", "notes.zarr", "empty.zarr"):
        (tmp_path / name).mkdir()
    (tmp_path / "photos.tif" / "mine.jpg").write_text("a photo")
    (tmp_path / "notes.zarr" / "mine.txt").write_text("a note")
    os.mkfifo(tmp_path / "pipe.tif")
    (tmp_path / "null.tif").symlink_to("/dev/null")
    for name in ("photos.tif", "notes.zarr", "empty.zarr", "pipe.tif", "null.tif"):
        with pytest.raises(RefusedError):
            check_free(tmp_path / name, replace=True)
    (tmp_path / "store.zarr").mkdir()
    (tmp_path / "store.zarr" / "zarr.json").write_text("{}")
    check_free(tmp_path / "store.zarr", replace=True)


def test_a_link_that_leads_nowhere_is_there(tmp_path: Path) -> None:
    (tmp_path / "a.txt").symlink_to("elsewhere.txt")
    with pytest.raises(RefusedError, match="exists"):
        check_free(tmp_path / "a.txt", replace=False)
    with Staging(replace=True) as staging:
        staging.write_text(tmp_path / "a.txt", "new")
        staging.publish()
    assert (tmp_path / "a.txt").read_text() == "new" and not (tmp_path / "a.txt").is_symlink()


def test_what_is_mended_keeps_its_mode_and_its_links(tmp_path: Path) -> None:
    (tmp_path / "real.txt").write_text("old")
    (tmp_path / "real.txt").chmod(0o640)
    (tmp_path / "link.txt").symlink_to("real.txt")
    with Staging(replace=True, mends=True) as staging:
        staging.write_text(tmp_path / "link.txt", "new")
        staging.publish()
    assert (tmp_path / "link.txt").is_symlink() and (tmp_path / "real.txt").read_text() == "new"
    assert stat.S_IMODE((tmp_path / "real.txt").stat().st_mode) == 0o640


def test_a_set_leaves_nothing_of_the_one_before(tmp_path: Path) -> None:
    for name in ("a.shp", "a.dbf", "a.prj"):
        (tmp_path / name).write_text("old")
    with Staging(replace=True) as staging:
        staging.write_text(tmp_path / "a.shp", "new")
        staging.write_text(tmp_path / "a.dbf", "new")
        staging.let_go(tmp_path / "a.prj")
        staging.publish()
    assert {path.name: path.read_text() for path in tmp_path.iterdir()} == {"a.shp": "new", "a.dbf": "new"}


def test_what_cannot_be_taken_back_is_left_to_the_next_run(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disk that fails in the middle of an exchange, and again at taking it back, costs nothing."""
    for name in ("a.shp", "a.dbf"):
        (tmp_path / name).write_text("old")

    def failing(*_: object) -> None:
        raise OSError(5, "Input/output error")

    with monkeypatch.context() as broken, pytest.raises(ResourceError), Staging(replace=True) as staging:
        staging.write_text(tmp_path / "a.shp", "new")
        staging.write_text(tmp_path / "a.dbf", "new")
        broken.setattr("zembrel.engine.together.put_new", failing)
        broken.setattr("zembrel.engine.together.Together._backward", failing)
        staging.publish()
    assert not (tmp_path / "a.shp").exists()
    with monkeypatch.context() as broken:
        broken.setattr("zembrel.engine.together.put_new", failing)
        check_free(tmp_path / "b.txt", replace=False)
    check_free(tmp_path / "b.txt", replace=False)
    assert {path.name: path.read_text() for path in tmp_path.iterdir()} == {"a.shp": "new", "a.dbf": "new"}


def test_without_exchange_a_store_is_kept_until_the_new_one_stands(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("zembrel.engine.exchange._renamed", lambda *_: False)
    for text in ("old", "new"):
        with Staging(replace=True) as staging:
            staged = staging.path_for(tmp_path / "s.zarr")
            staged.mkdir()
            (staged / "zarr.json").write_text(text)
            staging.publish()
        assert (tmp_path / "s.zarr" / "zarr.json").read_text() == text
    assert listing(tmp_path) == {"s.zarr"}
    shutil.rmtree(tmp_path / "s.zarr")


def test_no_error_names_the_hidden_file_on_its_way(tmp_path: Path) -> None:
    with pytest.raises(ResourceError) as caught, Staging() as staging:
        raise InputError(
            f"{staging.path_for(tmp_path / 'x.kap')} is no sound chart", "it is cut off", "get it again"
        )
    told = f"{caught.value.what} {caught.value.why} {caught.value.remedy}"
    assert ".zembrel-part" not in told and f"{tmp_path / 'x.kap'} is no sound chart: it is cut off" in told
    with pytest.raises(InputError, match=r"a\.tif is broken"), Staging() as staging:
        staging.path_for(tmp_path / "y.tif")
        raise InputError("a.tif is broken", "it is cut off", "get it again")
    assert not list(tmp_path.iterdir())
