"""formats: what can be read and written, printed from the table the code works by."""

from __future__ import annotations

from zembrel.errors import UsageError, nearest_name
from zembrel.formats import FORMATS, Format
from zembrel.verbs.receipt import Receipt, show_table


def formats(name: str | None = None) -> Receipt:
    """All formats in a line each, or one with its options. Raises UsageError for an unknown name."""
    facts = {
        key: {
            "title": f.title,
            "endings": f.endings,
            "types": f.types,
            "bands": f.most_bands or "any",
            "settings": dict(f.settings),
        }
        for key, f in FORMATS.items()
    }
    if name is None:
        return Receipt("formats", "", (), facts, data=_table())
    if name.lower() not in FORMATS:
        raise UsageError(f"there is no format {name!r}", "see zembrel formats", nearest_name(name, FORMATS))
    return Receipt("formats", "", (), {name: facts[name.lower()]}, data=_one(name.lower()))


def _table() -> str:
    heads = ("name", "endings", "bands", "CRS", "mask", "legend", "types")
    rows: list[tuple[str, ...]] = [heads]
    for name, f in FORMATS.items():
        yes = [
            ("inside" if f.holds_place and f.holds_crs else "beside"),
            *("yes" if has else "no" for has in (f.holds_mask, f.holds_legend)),
        ]
        bands = _bands(f)
        types = "all integers and floats" if len(f.types) > 5 else ", ".join(f.types)
        rows.append((name, " ".join(f.endings), bands, *yes, types))
    return show_table(rows)


def _one(name: str) -> str:
    f = FORMATS[name]
    lines = [
        ("format", f.title),
        ("standard", f.specification),
        ("endings", " ".join(f.endings)),
        ("types", ", ".join(f.types)),
        ("bands", _bands(f)),
        ("place", _place(f)),
        (
            "invalid",
            "nodata value only"
            if not f.holds_crs or name == "npy"
            else "mask or nodata"
            if f.holds_mask
            else "becomes white",
        ),
        ("longest", f"{f.longest_side:,} cells along a side"),
        *((f"--set {key}", text) for key, text in f.settings.items()),
    ]
    return show_table(lines)


def _bands(form: Format) -> str:
    if form.most_bands == 1:
        return "1"
    return f"1 or {form.most_bands}" if form.most_bands else "any"


def _place(form: Format) -> str:
    if form.holds_place and form.holds_crs:
        return "in the file"
    return (
        "in the file, its CRS in a .prj beside it"
        if form.holds_place
        else "in a world file and .prj beside it"
    )
