"""Where a pack of tiles and its page may go, asked before anything is made."""

from __future__ import annotations

from pathlib import Path

from zembrel.engine.commit import check_free
from zembrel.errors import RefusedError, UsageError
from zembrel.formats.tilefolder import stands_as_tiles
from zembrel.inputs.options import Output
from zembrel.reading import readings


def check_places(kind: str, output: Output, viewer: str | None) -> None:
    """Raise RefusedError for a folder with anything else in it, UsageError for a page inside the pack.

    kind: of the pack; viewer: the page that shows it.
    """
    known = stands_as_tiles(output.path) or readings.owns(output.path)
    if kind == "folder" and output.path.is_dir() and not known:
        what = f"{output.path} is a folder that is no pack of tiles"
        raise RefusedError(what, "a pack has a folder for itself", "choose another --out")
    page = Path(viewer) if viewer else None
    if page is not None and kind == "folder" and page.absolute().is_relative_to(output.path.absolute()):
        what = f"--viewer {viewer} lies in --out {output.out}"
        raise UsageError(what, "the folder is replaced as a whole", f"write --viewer {page.name}")
    for path in (output.path, *([page] if page is not None else [])):
        check_free(path, output.replace)
