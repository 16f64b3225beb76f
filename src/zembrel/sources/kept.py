"""Files of a source: read in parts, whose pages are kept, or kept as a whole."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.formats import by_ranges
from zembrel.formats.origin import Origin
from zembrel.formats.web import name_of
from zembrel.sources.service import Service
from zembrel.web.asking import Request
from zembrel.web.cache import Kept, WebCache
from zembrel.web.remote import Remote


@dataclass(frozen=True)
class CachedPages:
    """Pages of the remote files of a source."""

    cache: WebCache
    own: str

    def page(self, name: str) -> bytes | None:
        kept = self.cache.get(self.own, name)
        return None if kept is None else kept.data

    def keep(self, name: str, data: bytes) -> None:
        self.cache.put(self.own, name, Kept(time.time(), 206, "", None, data))


def origin_at(service: Service, request: Request, renew: Callable[[], Request] | None = None) -> Origin:
    """The file of a request: in parts where its server and format allow that, else as a whole.

    renew: gives the address anew where it does not hold for ever. Raises RemoteError, RefusedError offline.
    """
    path = name_of(request.address)
    whole = service.cache.get(service.own, f"file {request.key}")
    if whole is not None and whole.file is not None and service.believes(whole):
        return Origin(path, whole.file)
    pages = CachedPages(service.cache, service.own)
    source = Remote(request, Path(path.name), service.manner, pages, renew)
    if service.offline:
        kept = service.cache.get(service.own, f"head {request.key}")
        if kept is None:
            what = f"{request.told} was never fetched"
            raise RefusedError(what, "--offline forbids to ask for it", "leave --offline out")
        source.go_on_offline(int(kept.type), kept.mark)
        return Origin(path, source.file, source)
    head = source.begin()
    if source.ranged and by_ranges(head):
        kept = Kept(time.time(), 206, str(source.size), source.mark, head)
        service.cache.put(service.own, f"head {request.key}", kept)
        return Origin(path, source.file, source)
    file = service.cache.place(path.name)
    try:
        source.save(file)
    except BaseException:
        file.unlink(missing_ok=True)
        raise
    kept = Kept(time.time(), 200, "", source.mark, b"", file)
    service.cache.put_file(service.own, f"file {request.key}", kept)
    return Origin(path, file)
