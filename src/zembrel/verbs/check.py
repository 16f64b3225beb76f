"""check: does a file obey the rules of its format?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.features.files import read_features
from zembrel.features.soundness import faults
from zembrel.features.table import FeatureTable, appended
from zembrel.formats import format_named, identify
from zembrel.formats.origin import Origin
from zembrel.formats.tiff.rules import CHECKS, FAULT, GOOD, STANDARDS, RuleItem
from zembrel.inputs.intake import identified
from zembrel.inputs.layers import Layer, open_layer
from zembrel.inputs.options import Inputs, Output
from zembrel.optiontext import OptionText
from zembrel.passes.cellchecks import CELLS, check_cells, check_legible
from zembrel.points.files.catalogue import surely_points
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt, Result
from zembrel.results.tables import check_target, write_layer
from zembrel.verbtable.record import FEATURES, RASTERS

DID_NOT_HOLD = 1  # exit code


def check(
    inputs: Inputs,
    output: Output,
    *,
    rules: Annotated[
        str | None, OptionText("Check only these rules: tiff, geotiff, cog, cells.", "LIST")
    ] = None,
    faults_only: Annotated[bool, OptionText("List only the rules that are broken.")] = False,
    against: Annotated[
        str | None, OptionText("Original of the file: checks whether text is still legible.", "SOURCE")
    ] = None,
) -> Receipt:
    """Every rule of TIFF, GeoTIFF and the cloud-optimized layout for each input, with its verdict; of any
    raster what its cells tell, and against the source it was made of whether text stays legible.

    Of features each fault of a geometry, with its place, and as a layer of points in `output.out`.

    rules: names of STANDARDS or `cells`, to look at those alone. The exit code is 1 if any is not obeyed.
    Raises InputError for points, UsageError for an unknown standard.
    """
    known = (*STANDARDS, CELLS)
    standards = [word.strip().lower() for word in (rules or ",".join(known)).split(",")]
    for word in standards:
        if word not in known:
            raise UsageError(f"--rules {word}", "there are no such rules", nearest_name(word, known))
    text, facts, bad = "", [], 0
    found = identified(inputs, output, (RASTERS, FEATURES))
    shapes = [dataset.origin for dataset in found if dataset.kind == FEATURES]
    if shapes:
        return _of_features(shapes, [d.origin for d in found if d.kind != FEATURES], output)
    if output.out:
        raise UsageError("--out is for faults of features", "there are none", "leave it out")
    source = open_layer(Origin.of(Path(against)), replace(inputs, inputs=(against,))) if against else None
    for path in (dataset.origin for dataset in found):
        items = list(_items(path, standards, source, inputs, output))
        broken = [item for item in items if item.verdict == FAULT]
        bad += bool(broken)
        facts.append({"path": str(path), "faults": len(broken), "items": [item._asdict() for item in items]})
        text += _text(str(path), broken if faults_only else items, len(items), len(broken))
    paths = tuple(dataset.origin.name for dataset in found)
    return Receipt("check", paths, own={"files": facts}, exit_code=DID_NOT_HOLD if bad else 0, data=text)


def _items(
    path: Origin, standards: Sequence[str], source: Layer | None, inputs: Inputs, output: Output
) -> Iterator[RuleItem]:
    """What is looked at in a raster. Raises InputError for a format whose rules are not known here."""
    if surely_points(path.file):
        raise InputError(
            f"{path} holds points",
            "check knows the rules of TIFF, GeoTIFF and features, and what cells tell",
            "describe --stats reads all of it, or leave it out",
        )
    name = identify(path)
    if name in CHECKS:
        items = CHECKS[name](path.place)
        yield from (item for item in items if item.standard.lower() in standards)
        if any(item.verdict == FAULT and item.standard.lower() == "tiff" for item in items):
            return  # its cells may not be what they seem
    elif CELLS not in standards:
        raise InputError(
            f"the rules of {format_named(name).title} are not checked here",
            f"{path} is one; check knows those of TIFF, GeoTIFF and features, and what cells tell",
            "add cells to --rules, or leave it out",
        )
    if CELLS in standards or source is not None:
        layer = open_layer(path, inputs)
        if CELLS in standards:
            yield from check_cells(layer, output)
        if source is not None:
            yield check_legible(layer, source)


def _of_features(paths: Sequence[Origin], others: Sequence[Origin], output: Output) -> Receipt:
    """Each fault of a geometry: which feature, of what kind, what is wrong and where."""
    if others:
        raise UsageError(
            f"{paths[0]} holds features, and {others[0]} does not", "they are checked by other rules",
            "check them in two runs",
        )  # fmt: skip
    if output.out:
        check_target(output.path, output)
    text, facts, tables = "", [], []
    for path in paths:
        table = read_features(path.file)
        found = list(faults(table))
        tables.append(FeatureTable.of(
            [fault.place for fault in found],
            [{"file": str(path), "feature": f.number, "kind": f.kind, "fault": f.reason} for f in found],
            table.crs,
        ))  # fmt: skip
        facts.append({"path": str(path), "faults": len(found), "items": [fault.facts for fault in found]})
        verdict = f"{len(found)} of {len(table):,} features are faulty" if found else "all features are sound"
        text += f"{path}: {verdict}\n"
        rows = [["FAULT", f"feature {f.number}", f.kind, f.reason, f.where] for f in found]
        text += show_table(rows) if rows else ""
    bad = any(entry["faults"] for entry in facts)
    written: tuple[Result, ...] = ()
    if output.out and bad:
        layer = write_layer(output.path, appended([table for table in tables if len(table)]), output)
        written = (replace(layer.result, what="faults"),)
    return Receipt(
        "check",
        tuple(path.name for path in paths),
        output.out,
        results=written,
        own={"files": facts},
        exit_code=DID_NOT_HOLD if bad else 0,
        data=text,
    )


def _text(path: str, items: list[RuleItem], count: int, faults: int) -> str:
    verdict = f"{faults} of {count} rules not obeyed" if faults else f"all {count} rules obeyed"
    head = f"{path}: {verdict}\n"
    if not items:
        return head
    return head + show_table([[_mark(i.verdict), i.standard, i.rule, i.found] for i in items])


def _mark(verdict: str) -> str:
    return verdict if verdict == GOOD else verdict.upper()
