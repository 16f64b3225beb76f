"""Files that a feature index names: each feature has the outline of a block, and a link to its file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

import shapely

from zembrel.errors import EmptyInputError, EmptySourceError, InputError, RemoteError, nearest_name
from zembrel.expression.formula import parse_condition
from zembrel.features.files import read_features
from zembrel.features.table import FeatureTable
from zembrel.formats import readable
from zembrel.formats.archives import is_archive, members
from zembrel.formats.origin import Origin
from zembrel.geodesy.registry import by_code
from zembrel.points.files.catalogue import surely_points
from zembrel.sources.kept import origin_at
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import nothing_there
from zembrel.sources.wish import Bounds, Wish
from zembrel.web.addresses import is_address
from zembrel.web.asking import asker_of

_LINKS = ("url", "link", "href", "address", "download", "location", "file", "path")
_SIZES = ("bytes", "size", "length")
_FEW, _LONG = 12, 80  # values of a field that are all listed, and their letters


@dataclass(frozen=True)
class BlockFile:
    """A block: the address of its file, and its size if the index says it."""

    address: str
    size: int | None


def blocks_in(source: SourceFile, service: Service, wish: Wish) -> tuple[list[BlockFile], int]:
    """The blocks that meet the area, and how many there are in all. Raises InputError, RemoteError."""
    table, base = _index(source, service)
    whole = len(table)
    if table.crs is not None:
        table = table.to(by_code(4326))
    if wish.blocks_where is not None:
        table = _picked(source, table, wish.blocks_where)
    field = _field(source, table, "link", _LINKS)
    sizes = next((name for name in (str(source.get("size", "")), *_SIZES) if name in table.columns), None)
    boxes = _boxes(wish.ground)
    found = []
    for row, shape in zip(table.rows(), table.geometries, strict=True):
        link = row.get(field)
        if link and (
            boxes is None or (shape is not None and any(shapely.intersects(shape, box) for box in boxes))
        ):
            size = row.get(sizes) if sizes else None
            found.append(
                BlockFile(_joined(base, str(link)), int(size) if isinstance(size, int | float) else None)
            )
    if not found:
        raise nothing_there(source)
    return found, whole


def _picked(source: SourceFile, table: FeatureTable, condition: str) -> FeatureTable:
    """Return the entries that meet a condition. Raises UsageError, and EmptySourceError with the values."""
    try:
        return table.where(condition)
    except EmptyInputError as exc:
        words = parse_condition(condition).names
        values = "; ".join(f"{name}: {told}" for name, told in values_of(table) if name in words)
        what = f"no entry of {source.name} meets {condition!r}"
        raise EmptySourceError(what, f"there is {values}", "correct --blocks-where") from exc


def fields(source: SourceFile, service: Service) -> list[tuple[str, str]]:
    """Return the fields of the index, each with its values as text."""
    return values_of(_index(source, service)[0])


def values_of(table: FeatureTable) -> list[tuple[str, str]]:
    """Return each field with its values as text: all if they are few, else their range, or the first one."""
    found = []
    for name, column in table.columns.items():
        plain = [
            value if isinstance(value, int | float) else str(value)
            for value in column.tolist()
            if value is not None
        ]
        values = [value for value in dict.fromkeys(plain) if value == value]
        whole = ", ".join(sorted(map(str, values)))
        if len(values) <= _FEW and len(whole) <= _LONG:
            told = whole or "nothing"
        elif all(isinstance(value, int | float) for value in values):
            told = f"{min(values):.10g} to {max(values):.10g}"
        else:
            told = f"{str(values[0])[:_LONG]} ... ({len(values):,} values)"
        found.append((name, told))
    return found


def _joined(base: str, link: str) -> str:
    return urljoin(base, link) if is_address(base) or is_address(link) else str(Path(base).parent / link)


def _index(source: SourceFile, service: Service) -> tuple[FeatureTable, str]:
    """The index, and what its links are relative to."""
    address = source.filled(secret=True)
    if not is_address(address):
        path = source.path.absolute().parent / address
        if not path.exists():
            raise InputError(f"{path} does not exist", f"{source.path} names it", "mend the address")
        return read_features(path), str(path)
    origin = origin_at(service.believing(86_400), source.request())
    with origin.naming():
        return read_features(origin.file), address


def _field(source: SourceFile, table: FeatureTable, key: str, usual: Sequence[str]) -> str:
    """The field that holds links. Raises InputError with the near miss."""
    names = list(table.columns)
    wanted = source.get(key)
    if wanted is not None and wanted in names:
        return str(wanted)
    found = next((name for one in usual for name in names if name.lower() == one), None)
    if wanted is not None or found is None:
        what = (
            f"{source.name} has no field {wanted!r}"
            if wanted
            else f"{source.name} says in no field where its files are"
        )
        remedy = (
            nearest_name(str(wanted), names)
            if wanted and names
            else f"zembrel source set {source.name} {key}=FIELD"
        )
        raise InputError(what, f"its fields are {', '.join(names) or 'none'}", remedy)
    return found


def _boxes(ground: Bounds | None) -> list[Any] | None:
    """The area as boxes that do not cross the antimeridian."""
    if ground is None:
        return None
    west, south, east, north = ground
    east += 360 * (west > east)
    return [shapely.box(west + turn, south, east + turn, north) for turn in (-360, 0, 360)]


def brought(
    source: SourceFile, service: Service, blocks: Sequence[BlockFile]
) -> tuple[list[Origin], list[tuple[str, RemoteError]]]:
    """The files of blocks, those in archives unpacked, and what cannot be had."""
    found: dict[int, list[Origin]] = {}
    lost: list[tuple[str, RemoteError]] = []
    numbers = range(len(blocks))
    for number, origin in asker_of(service.manner).each(numbers, lambda n: _file(source, service, blocks[n])):
        if isinstance(origin, RemoteError):
            lost.append((source.to(blocks[number].address).told, origin))
        else:
            inside = members(origin, None, surely_points, readable) if is_archive(origin.name) else [origin]
            found[number] = inside
    return [origin for number in sorted(found) for origin in found[number]], lost


def _file(source: SourceFile, service: Service, block: BlockFile) -> Origin:
    if is_address(block.address):
        return origin_at(service, source.to(block.address))
    path = Path(block.address)
    if urlsplit(block.address).scheme in ("", "file") and path.exists():
        return Origin.of(path)
    raise RemoteError(f"{block.address} is not there", "the index names it", "check the index")


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The first blocks, and how many there are."""
    blocks, count = blocks_in(source, service, Wish())
    more = f"one of {count:,}"
    return [
        (
            Path(urlsplit(block.address).path).name,
            "",
            more + (f", {block.size:,} bytes" if block.size else ""),
        )
        for block in blocks[:10]
    ]
