"""The lines of a receipt: facts that a verb reports, in words for people."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.cli.jobwording import job_lines, job_title
from zembrel.cli.saying import say
from zembrel.geodesy.crs import label
from zembrel.grid.frame import Frame
from zembrel.handles import size_on_disk
from zembrel.measure import show_bytes, show_fixed, show_number
from zembrel.results.phrases import frame_items, named, show_bounds, show_kinds
from zembrel.results.receipt import FeatureTotals, PointTotals, Receipt, Result

Items = tuple[str, ...]
_SHOWN_FIELDS, _SHOWN_PATHS, _SHOWN_LOSSES = 8, 3, 20
_NO_SHIFT = 0.005  # cells


def title_of(receipt: Receipt) -> str:
    """What the run was: inputs and result, or what the verb is about."""
    special = _TITLES.get(receipt.verb)
    if special is not None:
        return special(receipt)
    return f"{named(receipt.inputs)} -> {receipt.out}"


def lines_of(receipt: Receipt) -> Iterator[tuple[str, Items]]:
    """Each line's word and its items, in the order of the work; those without an item are left out."""
    for word, items in _lines(receipt):
        if items:
            yield word, tuple(items)


def _lines(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    if receipt.planned and receipt.touched:
        yield "reads", _touched(receipt.touched)
    if receipt.points is not None:
        yield "points", _points(receipt.points)
    if receipt.features is not None:
        yield "features", _features(receipt.features)
    if receipt.frame is not None:
        yield _framed(receipt.frame, len(receipt.results))
    yield from _OWN.get(receipt.verb, _nothing)(receipt)
    yield "chose", (*map(say, receipt.chose), *_passed(receipt.left_alone), *_settled(receipt.settled))
    yield "checks", [*map(say, receipt.checks)]
    yield "lost", [*map(say, receipt.losses)]
    yield "plan" if receipt.planned else "wrote", _wrote(receipt)
    for loss in receipt.lost[:_SHOWN_LOSSES]:
        again = loss.error.what.startswith(str(loss.input))
        what = f"{loss.error.what}: {loss.error.why}" if again else f"{loss.input}: {loss.error.what}"
        yield "lost", (what,)
    if len(receipt.lost) > _SHOWN_LOSSES:
        yield "lost", (f"and {len(receipt.lost) - _SHOWN_LOSSES:,} more (see --json)",)
    if receipt.web:
        yield "web", (_web(receipt.web),)


def _nothing(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    yield from ()


def _touched(paths: Sequence[Path]) -> Items:
    size = show_bytes(sum(size_on_disk(path) for path in paths))
    more = ["..."] if len(paths) > _SHOWN_PATHS else []
    return (f"{_many(len(paths), 'input')}, {size}", *map(str, paths[:_SHOWN_PATHS]), *more)


def _points(totals: PointTotals) -> Items:
    some = totals.count != totals.of or totals.layout is None  # what counts is how many were used
    kept = " kept" if some and totals.parts else ""
    items = [f"{totals.count:,} of {totals.of:,} points{kept}" if some else _many(totals.of, "point")]
    items += [label(totals.crs)] if totals.crs is not None or totals.layout is not None else []
    items += [f"format {totals.layout}"] if totals.layout is not None else []
    skipped = 0 < totals.parts_read < totals.parts
    return (*items, *([f"{totals.parts_read:,} of {totals.parts:,} parts read"] if skipped else []))


def _features(totals: FeatureTotals) -> Items:
    fields = ", ".join(totals.fields[:_SHOWN_FIELDS]) + " ..." * (len(totals.fields) > _SHOWN_FIELDS)
    named_fields = f"{len(totals.fields)} fields: {fields}" if fields else "no fields"
    return show_kinds(totals), label(totals.crs), named_fields


def _framed(frame: Frame, results: int) -> tuple[str, Items]:
    first, *items = frame_items(frame)
    return (
        ("frame", (first, *items)) if results < 2 else ("frames", (f"{results}, the first: {first}", *items))
    )


def _passed(paths: Sequence[Path]) -> Items:
    if not paths:
        return ()
    shown = ", ".join(path.name for path in paths[:_SHOWN_PATHS]) + " ..." * (len(paths) > _SHOWN_PATHS)
    return (f"{_many(len(paths), 'other file')} in folders left alone: {shown}",)


def _settled(options: Mapping[str, Any]) -> Items:
    said = [f"--{name.replace('_', '-')} {value}" for name, value in options.items()]
    return (f"by zembrel.toml {', '.join(said)}",) if said else ()


def _wrote(receipt: Receipt) -> list[str]:
    results, planned = receipt.results, receipt.planned
    products = [f"{option} {path}" for option, path in receipt.products.items() if not planned]
    if not results:
        return [str(path) for path in receipt.products.values() if not planned]
    if len(results) == 1:
        return _one(results[0], products, planned)
    whole = Result(
        out=Path(receipt.out or ""),
        files=len(results),
        bytes=sum(result.bytes or 0 for result in results) or None,
        bytes_at_most=sum(result.bytes_at_most or 0 for result in results) or None,
        count=sum(result.count or 0 for result in results) or None,
        what=results[0].what,
        seconds=receipt.seconds,
    )
    return _one(whole, products, planned)


def _one(result: Result, products: Sequence[str], planned: bool) -> list[str]:
    place = str(result.out) if result.files is None else f"{_many(result.files, 'file')} in {result.out}"
    items = [f"{place} (not written: dry run)" if planned else place]
    if planned and result.bytes_at_most is not None:
        items.append(f"at most {show_bytes(result.bytes_at_most)}")
    elif not planned and result.bytes is not None:
        items.append(show_bytes(result.bytes))
    items += [_many(result.bands, "band") + f" {result.type}"] if result.bands is not None else []
    items += [_many(result.count, result.what.removesuffix("s"))] if result.count is not None else []
    items += [*result.how, *(f"beside it {path.name}" for path in result.beside)]
    items += [f"{show_bytes(result.free)} free"] if result.free is not None else []
    items += [f"memory about {show_bytes(result.memory)}"] if result.memory is not None else []
    items += products
    return [*items, *([f"in {result.seconds:.1f} s"] if result.seconds is not None and not planned else [])]


def _web(facts: Mapping[str, int]) -> str:
    asked = f"{_many(facts['requests'], 'request')}, {show_bytes(facts['bytes'])}"
    if not facts["files"]:
        return asked
    return f"{asked}; {_many(facts['files'], 'remote file')} of {show_bytes(facts['size'])}"


def _many(count: int, what: str) -> str:
    return f"{count:,} {what}{'s' * (count != 1)}"


def _compared(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    own = receipt.own
    cells, equal = own["cells"], own["equal"]
    items = [f"{cells:,} compared", f"{equal:,} equal ({100 * equal / max(cells, 1):.6g} %)"]
    items += [f"{own['first_alone']:,} only in the first"] if own["first_alone"] else []
    items += [f"{own['second_alone']:,} only in the second"] if own["second_alone"] else []
    yield "cells", [*items, *([f"{own['outside']:,} outside of what both cover"] if own["outside"] else [])]
    if own["classes"] is not None:
        yield "classes", _confusion(own["classes"])
    yield "shift", (_shift(own),)
    if cells == equal or own["classes"] is not None:
        return
    items = [f"from {show_number(own['low'])} to {show_number(own['high'])}"]
    items += [f"bias {own['bias']:.6g}", f"rms {own['rms']:.6g}"]
    items += [
        f"{100 * row['share']:.6g} % within {row['within']:g}" for row in own["shares"] if row["within"]
    ]
    yield "differ", items
    sizes = own["percentiles"]
    worst = own["worst"]
    yield (
        "sizes",
        (
            *(f"{n} % up to {sizes[n]:.4g}" for n in ("50", "95", "99")),
            f"worst {worst['difference']:.6g} at {worst['x']:.10g},{worst['y']:.10g}",
        ),
    )


def _shift(own: Mapping[str, Any]) -> str:
    shift = own["shift"]
    if shift is None:
        return f"cannot be told: {own['no_shift']}"
    if max(abs(shift["columns"]), abs(shift["rows"])) < _NO_SHIFT:
        return f"none (confidence {shift['confidence']:.2f})"
    across, along = (show_fixed(shift[key], 3, sign=True) for key in ("columns", "rows"))
    return f"the second lies {across} columns, {along} rows off (confidence {shift['confidence']:.2f})"


def _confusion(classes: Mapping[str, Any]) -> Items:
    items = [f"{100 * classes['agreement']:.6g} % agree", f"kappa {classes['kappa']:.3f}"]
    for row in classes["confused"][:_SHOWN_PATHS]:
        names = [
            name or str(code) for name, code in zip(row["names"], (row["first"], row["second"]), strict=True)
        ]
        items.append(f"{row['cells']:,} {names[0]} became {names[1]}")
    return tuple(items)


def _profiled(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    own = receipt.own
    unit = " m" if own["metres"] else ""
    lines = [_many(own["lines"], "line")] if own["lines"] > 1 else []
    yield "line", (*lines, f"{own['length']:,.10g}{unit}", f"{own['samples']:,} samples")
    for layer in own["layers"]:
        sign = f" {layer['unit']}" if layer["unit"] else ""
        missing = [f"{layer['missing']:,} missing"] if layer["missing"] else []
        ends = "nothing" if layer["low"] is None else f"{layer['low']:.6g} to {layer['high']:.6g}{sign}"
        yield "layer", (layer["name"], ends, *missing)
    for row in own["differences"]:
        if not row["samples"]:
            yield "differ", (f"{row['name']} and {row['less']} have no place in common",)
            continue
        sign = f" {row['unit']}" if row["unit"] else ""
        place = f"{row['distance']:,.6g}{unit} at {row['x']:.10g},{row['y']:.10g}"
        yield (
            "differ",
            (
                f"{row['name']} less {row['less']}",
                f"typical {row['typical']:.4g}",
                f"rms {row['rms']:.4g}",
                f"bias {row['bias']:.4g}{sign}",
                f"worst {row['worst']:.4g}{sign} after {place}",
            ),
        )


def _compiled(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    yield "compiled", (f"{receipt.own['kernels']:,} kernels", f"in {receipt.own['seconds']:.0f} s")
    yield "kept", (receipt.own["place"],)


def _converted(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    outside = receipt.own["outside"]
    where = f"{outside:,} outside the domain (nan)" if outside else "all inside the domain"
    yield "points", (f"{receipt.own['points']:,}", where)


def _extent(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    if receipt.frame is not None:
        yield "extent", (show_bounds(receipt.frame),)


def _changed(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    words = {"crs": "CRS ", "shift": "moved by ", "nodata": "nodata ", "names": "names ", "legend": "legend "}
    said = {
        key: ", ".join(value) if key == "names" else value for key, value in receipt.own["changed"].items()
    }
    yield "changed", ["overviews" if key == "overviews" else f"{words[key]}{said[key]}" for key in said]


def _where(receipt: Receipt) -> str:
    return f"in {receipt.own['zone_layer']}" if "zone_layer" in receipt.own else "per cell"


_TITLES: Mapping[str, Callable[[Receipt], str]] = {
    "compare": lambda receipt: f"{' and '.join(map(str, receipt.inputs))}: {receipt.own['verdict']}",
    "coords": lambda receipt: f"{receipt.own['from_crs']} -> {receipt.own['to_crs']}",
    "check": lambda receipt: named(receipt.inputs),
    "describe": lambda receipt: named(receipt.inputs),
    "demo": lambda receipt: f"Isle of Marrowick -> {receipt.out}",
    "frame": lambda receipt: str(receipt.out),
    "label": lambda receipt: named(receipt.inputs) + (f" -> {receipt.out}" if receipt.out else ""),
    "run": lambda receipt: job_title(receipt.own, named(receipt.inputs)),
    "profile": lambda receipt: f"{named(receipt.inputs)} along {receipt.own['along']}",
    "sample": lambda receipt: f"{named(receipt.inputs)} at {receipt.own['at']} -> {receipt.out}",
    "shell": lambda receipt: f"manual pages -> {receipt.out}",
    "source": lambda receipt: str(receipt.own["action"]),
    "tally": lambda receipt: f"{named(receipt.inputs)} {_where(receipt)} -> {receipt.out}",
    "warm": lambda receipt: "kernels of all verbs",
}
_OWN: Mapping[str, Callable[[Receipt], Any]] = {
    "compare": _compared,
    "coords": _converted,
    "frame": _extent,
    "label": _changed,
    "profile": _profiled,
    "run": lambda receipt: job_lines(receipt),
    "warm": _compiled,
}
