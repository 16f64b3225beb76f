"""Images of a STAC API or of a static catalogue: items in an area, of some days, with few clouds.

Sources: STAC 1.0 and 1.1 (items, collections, catalogues), STAC API 1.0 (item search, by GET).
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from typing import Any, NamedTuple
from urllib.parse import urlencode, urljoin

from zembrel.errors import EmptySourceError, InputError, RemoteError, nearest_name
from zembrel.formats import open_raster
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import Relabelled, stack
from zembrel.sources.documents import holding_together, json_at, links, misses
from zembrel.sources.kept import origin_at
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import nothing_there
from zembrel.sources.wish import Bounds, SourceLayer, SourceLayers, Wish
from zembrel.web.asking import Request, asker_of

_LOOKED_AT = 200  # items of the area that are read to say what there is instead
_PAGE, _DOCUMENTS = 100, 5_000  # items of an answer; documents of a static catalogue that are read
_USUAL = ("visual", "image", "data", "analytic")
_PICTURES = ("image/tiff", "image/jp2", "image/png", "image/jpeg")


class Item(NamedTuple):
    """An item: its address, what it says, its day and its clouds in percent."""

    address: str
    said: dict[str, Any]
    day: datetime.date | None
    cloud: float | None

    @property
    def name(self) -> str:
        return str(self.said.get("id", "item"))


@dataclass(frozen=True)
class AssetAddress:
    """Gives the address of an asset anew, by asking for its item again: signed ones do not hold for ever."""

    service: Service
    source: SourceFile
    item: str
    asset: str

    def __call__(self) -> Request:
        said = json_at(self.service.believing(0), self.source.to(self.item))
        with holding_together(self.source.name):
            return self.source.to(urljoin(self.item, str(said["assets"][self.asset]["href"])))


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """The images that are wished for, latest first."""
    items = list(_items(source, service, wish))
    found = [item for item in items if _wished(item, wish)]
    said = [f"{len(found):,} of {len(items):,} items"]
    if not found:
        raise _none_wished(source, service, wish)
    asker = asker_of(service.manner)
    opened: dict[int, SourceLayer] = {}
    broken: list[str] = []
    for number, layer in asker.each(range(len(found)), lambda n: _opened(source, service, found[n])):
        if isinstance(layer, RemoteError):
            broken.append(f"{found[number].name} left out: {layer.what}, {layer.why}")
        else:
            opened[number] = layer
    if not opened:
        raise RemoteError(f"no image of {source.name} can be read", broken[0], "see zembrel source test")
    layers = [opened[number] for number in sorted(opened)]
    layers.sort(key=lambda layer: layer.day or datetime.date.min, reverse=True)
    return SourceLayers(tuple(layers), tuple(said), tuple(broken))


def _none_wished(source: SourceFile, service: Service, wish: Wish) -> EmptySourceError:
    """Return the error for a query that no item meets. It names the days or the cloud cover of the area."""
    any_item = replace(wish, dates=None, cloud=None)
    there = list(islice(_items(source, service, any_item), _LOOKED_AT))
    if not there:
        return nothing_there(source)
    days = sorted(item.day for item in there if item.day is not None)
    of_days = [item for item in there if wish.dates is None or wish.dates.holds(item.day)]
    clouds = sorted(item.cloud for item in of_days if item.cloud is not None)
    if wish.dates is not None and not of_days:
        what = f"{source.name} has no image of {wish.dates.first} to {wish.dates.last} in the area"
        ends = list(dict.fromkeys([*map(str, days[:1]), *map(str, days[-1:])]))
        why = f"the images there are from {' to '.join(ends)}" if days else "the images there have no date"
        remedy = f"write --dates {'..'.join(ends)}" if days else "leave --dates out"
        return EmptySourceError(what, why, remedy)
    if wish.cloud is None:
        return nothing_there(source)
    what = f"{source.name} has no image there with {wish.cloud:g} % of clouds or less"
    why = (
        f"they have {clouds[0]:g} to {clouds[-1]:g} %"
        if clouds
        else "the images there do not state their cloud cover"
    )
    remedy = f"write --cloud {math.ceil(clouds[0])}" if clouds else "leave --cloud out"
    return EmptySourceError(what, why, remedy)


def _wished(item: Item, wish: Wish) -> bool:
    dated = wish.dates is None or wish.dates.holds(item.day)
    clear = wish.cloud is None or (item.cloud is not None and item.cloud <= wish.cloud)
    return dated and clear


def _items(source: SourceFile, service: Service, wish: Wish) -> Iterator[Item]:
    """The items of the area, from the search of an API or out of a catalogue. Raises RemoteError."""
    address = source.filled(secret=True)
    root = json_at(service.believing(3_600), source.request())
    search = next(
        (link for link in links(root) if link.get("rel") == "search" and link.get("method", "GET") == "GET"),
        None,
    )
    found = (
        _searched(source, service, wish, urljoin(address, str(search["href"])))
        if search
        else _walked(source, service, wish, address, root)
    )
    for number, item in enumerate(found):
        if number >= wish.most:
            what = f"{source.name} has more than {wish.most:,} items there"
            raise RemoteError(
                what, "so many images are not read at once", "add --dates, --cloud or a smaller --within"
            )
        yield item


def _searched(source: SourceFile, service: Service, wish: Wish, address: str) -> Iterator[Item]:
    said: dict[str, Any] = {"limit": _PAGE}
    ground = wish.ground or source.get("bounds")
    if ground is not None:
        said["bbox"] = ",".join(repr(_wrapped(value, n)) for n, value in enumerate(ground))
    if wish.dates is not None:
        said["datetime"] = f"{wish.dates.first}T00:00:00Z/{wish.dates.last}T23:59:59Z"
    if source.get("collections"):
        said["collections"] = ",".join(source.get("collections"))
    following: str | None = f"{address}{'&' if '?' in address else '?'}{urlencode(said, safe=',:/')}"
    seen = set[str]()
    while following is not None:
        if following in seen:
            raise misses(source.name, "another next page than the one before")
        seen.add(following)
        page = json_at(service.believing(3_600), source.to(following))
        for feature in page.get("features", []):
            yield _item(source, following, feature)
        following = next(
            (urljoin(following, str(link["href"])) for link in links(page) if link.get("rel") == "next"),
            None,
        )


def _wrapped(value: float, n: int) -> float:
    """A side of a box, longitudes within 180."""
    return (value + 180) % 360 - 180 if n % 2 == 0 and abs(value) > 180 else value


def _walked(
    source: SourceFile, service: Service, wish: Wish, address: str, root: dict[str, Any]
) -> Iterator[Item]:
    """Items of a static catalogue, by its links."""
    waiting, seen = [(address, root)], {address}
    while waiting:
        here, document = waiting.pop()
        if document.get("type") == "Feature":
            item = _item(source, here, document)
            if _meets(document.get("bbox"), wish.ground):
                yield item
            continue
        for link in links(document):
            target = urljoin(here, str(link["href"]))
            if link.get("rel") in ("child", "item") and target not in seen:
                seen.add(target)
                if len(seen) > _DOCUMENTS:
                    what = f"{source.name} has more than {_DOCUMENTS:,} documents"
                    raise RemoteError(what, "a catalogue of so many is not read at once", "name a part of it")
                waiting.append((target, json_at(service.believing(3_600), source.to(target))))


def _meets(box: object, ground: Bounds | None) -> bool:
    if ground is None or not isinstance(box, list) or len(box) not in (4, 6):
        return True
    west, south, east, north = (float(value) for value in (box[:2] + box[len(box) // 2 : len(box) // 2 + 2]))
    right, own = ground[2] + 360 * (ground[0] > ground[2]), east + 360 * (west > east)
    overlaps = any(west + turn < right and own + turn > ground[0] for turn in (-360, 0, 360))
    return overlaps and south < ground[3] and north > ground[1]


def _item(source: SourceFile, page: str, said: Any) -> Item:
    """An item. Raises RemoteError for one that does not hold together."""
    if not isinstance(said, dict) or not isinstance(said.get("assets"), dict):
        raise misses(source.name, "the assets of an item")
    properties = said.get("properties") or {}
    own = next((urljoin(page, str(link["href"])) for link in links(said) if link.get("rel") == "self"), page)
    when = properties.get("datetime") or properties.get("start_datetime")
    try:
        day = datetime.date.fromisoformat(str(when)[:10]) if when else None
    except ValueError:
        day = None
    cloud = properties.get("eo:cloud_cover")
    return Item(own, said, day, float(cloud) if isinstance(cloud, int | float) else None)


def _opened(source: SourceFile, service: Service, item: Item) -> SourceLayer:
    """An item's image: one asset, or those that the source names as bands. Raises RemoteError."""
    names = _assets(source, item)
    rasters = []
    for name in names:
        address = urljoin(item.address, str(item.said["assets"][name].get("href", "")))
        request = source.to(address)._replace(key=f"{source.to(item.address).key} {item.name} {name}")
        renew = AssetAddress(service, source, item.address, name)
        rasters.append(open_raster(origin_at(service, request, renew)))
    return SourceLayer(item.name, _together(names, rasters), item.day, item.cloud)


def _together(names: Sequence[str], rasters: Sequence[Raster]) -> Raster:
    """Assets of one band each, as bands by their names."""
    if len(rasters) == 1:
        return rasters[0]
    named = [
        Relabelled(raster, tuple(replace(band, name=name) for band in raster.bands))
        if len(raster.bands) == 1
        else raster
        for name, raster in zip(names, rasters, strict=True)
    ]
    return stack(tuple(named))


def _assets(source: SourceFile, item: Item) -> list[str]:
    """The assets to read. Raises RemoteError, with the near miss, for one that the item does not have."""
    there = item.said["assets"]
    wanted = [str(name) for name in source.get("assets", [])]
    for name in wanted:
        if name not in there:
            remedy = nearest_name(name, there) if there else "see zembrel source test"
            raise RemoteError(f"{item.name} has no asset {name!r}", f"it has {', '.join(there)}", remedy)
    if wanted:
        return wanted
    pictures = [name for name, one in there.items() if str(one.get("type", "")).startswith(_PICTURES)]
    found = next((name for name in _USUAL if name in pictures), pictures[0] if pictures else None)
    if found is None:
        raise RemoteError(
            f"{item.name} has no image", f"its assets are {', '.join(there) or 'none'}", "name one: assets"
        )
    return [found]


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The first items, with their days, clouds and assets."""
    found = []
    wish = Wish()
    for item in _items(source, service, wish):
        cloud = "" if item.cloud is None else f", {item.cloud:g} % cloud"
        found.append((item.name, str(item.day or ""), f"assets {', '.join(item.said['assets'])}{cloud}"))
        if len(found) == 20:
            break
    if not found:
        raise InputError(
            f"{source.name} has no items", "its search gives none", "check the address and collections"
        )
    return found
