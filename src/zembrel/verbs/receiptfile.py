"""receipt: the record of a run, or of the last runs of a job, as a page with pictures of its results."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import chdir, suppress
from pathlib import Path
from typing import Any

from zembrel.draw.page import as_address
from zembrel.draw.receiptpage import BAD, GOOD, ReceiptLine, ReceiptPart, receipt_page
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.facts import fact
from zembrel.handles import size_on_disk
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.jobruns.allowed import TABLE
from zembrel.jobs.jobfile import ENDING, read_job
from zembrel.jobs.state import JobState, state_file
from zembrel.measure import show_bytes
from zembrel.nested import json_of
from zembrel.pictures.drawing import Drawing
from zembrel.reading import readings
from zembrel.results.endings import check_ending
from zembrel.results.receipt import Receipt, Result
from zembrel.scratch import Scratch
from zembrel.verbs.draw import draw

_PICTURES = (".png", ".jpg", ".jpeg", ".gif", ".webp")
_NO_PICTURE = (
    ".mbtiles",
    ".pmtiles",
    ".kmz",
    ".mp4",
    ".zip",
    ".toml",
    ".csv",
    ".json",
    ".tfrecord",
    ".tar",
    ".raw",
)
_WIDE, _HIGH, _MOST = 480, 340, 40  # pixels of a small picture, and how many there are at most
_REMEDY = "give what a verb printed with --json, or a job file"
Say = Callable[[Mapping[str, Any]], str]


def plainly(facts: Mapping[str, Any]) -> str:
    """A fact by its name and values, for whoever has no better words."""
    rest = [f"{key} {value}" for key, value in facts.items() if key not in ("fact", "text")]
    return str(facts.get("text") or " ".join([str(facts.get("fact", "")).replace("_", " "), *rest]))


def receipt(output: Output, path: str, say: Say = plainly) -> Receipt:
    """The page of a run: of the receipt that `--json` gave, or of a job by its file.

    say: words of a fact. Raises InputError for what is neither, UsageError for an ending that is no page's.
    """
    out, source = output.path, Path(path)
    check_ending(out, (".html", ".htm"), "page")
    check_free(out, output.replace)
    if not source.is_file() and source.with_name(source.name + ENDING).is_file():
        source = source.with_name(source.name + ENDING)
    title, about, rows = _of_job(source) if source.name.endswith(ENDING) else _of_json(source)
    pictures = _Pictures(source.parent if source.name.endswith(ENDING) else Path())
    try:
        parts = [_part(row, pictures, say) for row in rows]
    except (AttributeError, KeyError, TypeError, ValueError) as exc:
        why = f"something in it is not as a receipt has it: {exc}"
        raise InputError(f"{source} is no receipt", why, _REMEDY) from exc
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            staged.write_text(receipt_page(title, about, parts), "utf-8")
        staging.publish()
    result = Result(out, size_on_disk(out), seconds=output.seconds)
    chose = (fact("receipt_of", steps=len(parts), pictures=pictures.count),)
    return Receipt("receipt", (source,), output.out, chose=chose, results=(result,))


Rows = Sequence[Mapping[str, Any]]


def _of_json(path: Path) -> tuple[str, str, Rows]:
    """Title, words below it, and steps of a receipt. Raises InputError."""
    try:
        found = json_of(readings.note(path).read_text("utf-8"))
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), _REMEDY) from exc
    except ValueError as exc:
        raise InputError(f"{path} is no receipt", "it is no JSON", _REMEDY) from exc
    if not isinstance(found, dict) or "verb" not in found:
        raise InputError(f"{path} is no receipt", "it does not say of which verb", _REMEDY)
    record = found.get("record")
    version = record.get("version", "") if isinstance(record, dict) else ""
    steps = found.get("steps")
    if found["verb"] == "run" and isinstance(steps, list):
        return str(found.get("title") or path.name), f"{len(steps)} steps, zembrel {version}", steps
    row = {
        "id": found["verb"],
        "verb": found["verb"],
        "state": "ran",
        "receipts": [found],
        "seconds": found.get("seconds"),
    }
    return f"{found['verb']}: {found.get('out') or path.name}", f"zembrel {version}", [row]


def _of_job(path: Path) -> tuple[str, str, Rows]:
    """The same of the last runs of a job. Raises InputError."""
    job = read_job(path, TABLE)
    if not state_file(path).exists():
        raise UsageError(f"{path} was not run yet", "there is nothing to tell", f"use zembrel run {path}")
    state = JobState(path, lock=False, variant=None)
    done = state.done()
    state.close()
    rows = [
        {
            "id": step.id,
            "verb": step.verb,
            "state": "ran",
            "out": step.out,
            **json.loads(done[step.id].receipt),
        }
        for step in job.steps
        if step.id in done
    ]
    seconds = sum(row["seconds"] for row in rows)
    lacking = [step.id for step in job.steps if step.id not in done]
    rest = f"; not done yet: {', '.join(lacking)}" if lacking else ""
    count = f"{len(rows)} step{'s' * (len(rows) != 1)}"
    return job.title or path.name, f"{path.name}, {count}, {seconds:.1f} s{rest}", rows


def _part(row: Mapping[str, Any], pictures: _Pictures, say: Say) -> ReceiptPart:
    """A step of the page."""
    receipts = [entry for entry in row.get("receipts", ()) if isinstance(entry, dict)]
    last = receipts[-1] if receipts else {}
    lines = [ReceiptLine("frame", _frame(last.get("frame")))]
    for entry in receipts:
        lines.append(ReceiptLine("chose", [say(item) for item in entry.get("chose", ())]))
        lines.append(ReceiptLine("checks", [say(item) for item in entry.get("checks", ())], GOOD))
        lines.append(ReceiptLine("lost", [say(item) for item in entry.get("losses", ())], BAD))
        lines.append(
            ReceiptLine(
                "lost", [f"{one.get('input')}: {one.get('error')}" for one in entry.get("lost", ())], BAD
            )
        )
    if row.get("empty"):
        lines.append(ReceiptLine("empty", [str(row["empty"])]))
    failed = row.get("state") in ("failed", "not run")
    if failed:
        lines.append(ReceiptLine(str(row["state"]), [str(row.get("error") or "")], BAD))
    results = [result for result in last.get("results", ()) if isinstance(result, dict)]
    lines.append(ReceiptLine("wrote", [_wrote(result) for result in results]))
    verbs = " + ".join(str(entry.get("verb")) for entry in receipts) or str(row.get("verb"))
    out = row.get("out") or last.get("out")
    seconds = f", {row['seconds']:.1f} s" if row.get("seconds") else ""
    what = f"{verbs}{f' to {out}' if out else ''}{seconds}"
    record = last.get("record") or {}
    read = [(str(file.get("path")), _mark(file)) for file in record.get("read", ()) if isinstance(file, dict)]
    lines.append(
        ReceiptLine(
            "operations", [f"{m['from']} to {m['to']}: {m['how']}" for m in record.get("operations", ())]
        )
    )
    files = [str(result["out"]) for result in results if "out" in result]
    files += [str(path) for path in (last.get("products") or {}).values()]
    return ReceiptPart(str(row["id"]), what, lines, read, list(pictures.of(files)), failed)


def _frame(frame: Any) -> list[str]:
    if not isinstance(frame, dict):
        return []
    x, y = frame["cell"]
    cell = f"{x:.10g}" if x == y else f"{x:.10g}/{y:.10g}"
    return [f"{frame['crs_name'] or 'no CRS'}, cells of {cell}, {frame['columns']:,} x {frame['rows']:,}"]


def _wrote(result: Mapping[str, Any]) -> str:
    items = [str(result.get("out"))]
    items += [f"{result['files']:,} files"] if "files" in result else []
    items += [show_bytes(result["bytes"])] if isinstance(result.get("bytes"), int) else []
    return ", ".join([*items, *map(str, result.get("how", ()))])


def _mark(file: Mapping[str, Any]) -> str:
    size = show_bytes(file["bytes"]) if isinstance(file.get("bytes"), int) else ""
    return "   ".join(filter(None, (size, str(file.get("changed", "")), str(file.get("sha256", "")))))


class _Pictures:
    """Small pictures of results, as far as these can be shown."""

    def __init__(self, folder: Path) -> None:
        self._folder, self.count = folder, 0

    def of(self, files: Sequence[str]) -> Iterator[tuple[str, str]]:
        """Names of results, and their pictures as addresses."""
        for name in files:
            address = self._address(name) if self.count < _MOST else None
            if address is not None:
                self.count += 1
                yield name, address

    def _address(self, name: str) -> str | None:
        with chdir(self._folder), suppress(ZembrelError, OSError, ValueError):
            path = Path(name)
            if path.is_dir():
                path = next(
                    iter(sorted(p for p in path.rglob("*") if p.suffix in (*_PICTURES, ".tif"))), path
                )
            if path.suffix in _PICTURES:
                return _scaled(path)
            if path.exists() and path.suffix not in _NO_PICTURE:
                with readings.apart():
                    return _drawn(path)
        return None


def _scaled(path: Path) -> str:
    import numpy as np
    from PIL import Image

    with Image.open(path) as picture:
        picture.thumbnail((_WIDE * 2, _HIGH * 2))
        return as_address(np.asarray(picture.convert("RGB")))


def _drawn(path: Path) -> str:
    held = Scratch().path / "small.png"
    draw(Inputs((str(path),)), Where(), Output(str(held)), Drawing(size=f"{_WIDE}x{_HIGH}"))
    return _scaled(held)
