"""formats: what can be read and written, printed from the table the code works by."""

from __future__ import annotations

from zembrel.features.files.catalogue import FEATURE_FORMATS, FeatureFormat
from zembrel.formats.form import Format
from zembrel.formats.known import all_formats, format_named
from zembrel.points.files.catalogue import POINT_FORMATS, PointFormat
from zembrel.results.cloudtarget import SETTINGS as POINT_SETTINGS
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt


def formats(name: str | None = None) -> Receipt:
    """All formats in a line each, or one with its options. Raises UsageError for an unknown name."""
    if name is None:
        facts = {key: _facts(form) for key, form in all_formats().items()}
        shapes = {key: feature_form._asdict() for key, feature_form in FEATURE_FORMATS.items()}
        clouds = {key: point_form._asdict() for key, point_form in POINT_FORMATS.items()}
        text = f"{_table()}\n{_feature_table()}\n{_point_table()}"
        return Receipt("formats", own=facts | {"features": shapes, "points": clouds}, data=text)
    if name.lower() in POINT_FORMATS:
        point_form = POINT_FORMATS[name.lower()]
        return Receipt("formats", own={name.lower(): point_form._asdict()}, data=_of_points(point_form))
    if name.lower() in FEATURE_FORMATS:
        feature_form = FEATURE_FORMATS[name.lower()]
        return Receipt("formats", own={name.lower(): feature_form._asdict()}, data=_of_features(feature_form))
    form = format_named(name)
    return Receipt("formats", own={name.lower(): _facts(form)}, data=_one(form))


def _facts(form: Format) -> dict[str, object]:
    return {
        "title": form.title,
        "endings": form.endings,
        "types": form.types,
        "bands": form.most_bands or "any",
        "place": _place(form),
        "invalid": _invalid(form),
        "legend": form.holds_legend,
        "longest": form.longest_side,
        "settings": dict(form.settings),
    }


def _table() -> str:
    rows: list[tuple[str, ...]] = [("name", "endings", "bands", "CRS", "mask", "legend", "types")]
    for name, form in all_formats().items():
        place = "inside" if form.holds_place and form.holds_crs else "beside"
        holds = tuple("yes" if has else "no" for has in (form.holds_mask, form.holds_legend))
        types = "all integers and floats" if len(form.types) > 5 else ", ".join(form.types)
        rows.append((name, " ".join(form.endings), _bands(form), place, *holds, types))
    return show_table(rows)


def _feature_table() -> str:
    rows: list[tuple[str, ...]] = [("features", "endings", "CRS", "kinds in one layer", "limits")]
    for name, form in FEATURE_FORMATS.items():
        rows.append((name, " ".join(form.endings), form.crs, "any" if form.mixed else "one", form.limits))
    return show_table(rows)


def _point_table() -> str:
    rows: list[tuple[str, ...]] = [("points", "endings", "CRS", "values")]
    for name, form in POINT_FORMATS.items():
        rows.append((name, " ".join(form.endings), form.crs, form.holds))
    return show_table(rows)


def _of_points(form: PointFormat) -> str:
    lines = [
        ("format", form.title),
        ("standard", form.specification),
        ("endings", " ".join(form.endings)),
        ("CRS", form.crs),
        ("values", form.holds),
        ("taken for points", "always" if form.always else "with --columns, or by verbs for points alone"),
        *((f"--set {key}", text) for key, text in POINT_SETTINGS.items() if form.records),
    ]
    return show_table(lines)


def _of_features(form: FeatureFormat) -> str:
    lines = [
        ("format", form.title),
        ("standard", form.specification),
        ("endings", " ".join(form.endings)),
        ("CRS", form.crs),
        ("beside it", " ".join(form.beside) or "nothing"),
        ("kinds", "points, lines and polygons together" if form.mixed else "one kind a file"),
        ("layers", "several" if form.layers else "one"),
        ("limits", form.limits or "none"),
    ]
    return show_table(lines)


def _one(form: Format) -> str:
    lines = [
        ("format", form.title),
        ("standard", form.specification),
        ("endings", " ".join(form.endings)),
        ("types", ", ".join(form.types)),
        ("bands", _bands(form)),
        ("place", _place(form)),
        ("invalid", _invalid(form)),
        ("longest", f"{form.longest_side:,} cells along a side"),
        *((f"--set {key}", text) for key, text in form.settings.items()),
    ]
    return show_table(lines)


def _bands(form: Format) -> str:
    if form.most_bands == 1:
        return "1"
    return f"1 or {form.most_bands}" if form.most_bands else "any"


def _place(form: Format) -> str:
    if form.holds_place and form.holds_crs:
        return "in the file"
    if form.holds_place:
        return "in the file, its CRS in a .prj beside it"
    return "in a world file and .prj beside it"


def _invalid(form: Format) -> str:
    if form.nodata is not None:
        return f"the value {form.nodata:g}"
    if form.holds_mask:
        return "mask or nodata"
    return "becomes white" if form.whitens else "nodata value only"
