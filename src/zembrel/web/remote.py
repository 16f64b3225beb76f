"""A file at an address, of which only what is needed is read where the server allows it.

Source: RFC 9110, "HTTP Semantics", section 14 (range requests). Ranges are fetched in whole pages and kept;
a file that changes meanwhile is refused. A server is not believed: it gives the range that was asked for, of
the length that it says, at more than a trickle.
"""

from __future__ import annotations

import re
import shutil
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, Protocol, TypeVar

from zembrel.errors import RefusedError, RemoteError, ResourceError
from zembrel.measure import show_bytes
from zembrel.runstate import Stamp, changed
from zembrel.web.asking import Answer, DeniedError, Manner, Request, asker_of
from zembrel.web.bodies import packed, parts_of
from zembrel.web.traffic import traffic

T = TypeVar("T")

_PAGE, _KEPT = 8_192, 8_192  # bytes of a page, and how many are kept
_FIRST = 8  # pages that are asked for at first
_GAP = 8  # pages not needed that are read between two that are, rather than asking twice
_MOST = 512  # pages of one request


class PageStore(Protocol):
    """Keeps pages of remote files from one run to the next."""

    def page(self, name: str) -> bytes | None: ...
    def keep(self, name: str, data: bytes) -> None: ...


class Remote:
    """The file at an address: a `ByteSource` for the file handles.

    file: what it would be on this machine, where nothing is unless saved; renew: gives the address anew.
    """

    def __init__(
        self, request: Request, file: Path, manner: Manner | None = None, store: PageStore | None = None,
        renew: Callable[[], Request] | None = None,
    ) -> None:  # fmt: skip
        self._request, self.file, self._store, self._renew = request, file, store, renew
        self._key, self._manner = request.key, manner or Manner()  # another address of it has the same key
        self._pages: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()
        self._mark: str | None = None  # by which a changed file is known
        self._came = set[int]()  # pages that were fetched by this object
        self.ranged = self._offline = False
        self.size = 0

    def __str__(self) -> str:
        return self._request.told

    def __getstate__(self) -> dict[str, Any]:
        """What another process needs to go on reading: pages that are held stay here."""
        return {name: held for name, held in vars(self).items() if name not in ("_pages", "_lock")}

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state, _pages=OrderedDict(), _lock=threading.Lock())

    @property
    def mark(self) -> str | None:
        """By which a changed file is known."""
        return self._mark

    @property
    def stamp(self) -> Stamp:
        return Stamp(0, 0, self.size)

    def begin(self) -> bytes:
        """The first bytes; learns the size and whether ranges are to be had. Raises RemoteError."""
        answer = self._asked(0, _FIRST * _PAGE)
        total = answer.headers.get("content-range", "").rpartition("/")[2]
        self.ranged = answer.status == 206 and total.isdigit()
        if self.ranged:
            self._check_range(answer, 0, min(_FIRST * _PAGE, int(total)), int(total))
        self._mark = answer.mark
        self.size = int(total) if self.ranged else int(answer.headers.get("content-length", 0) or 0)
        traffic.meet(str(self), self.size)
        if self.ranged:
            self._hold(0, answer.data)
        return answer.data

    def go_on_offline(self, size: int, mark: str | None) -> None:
        """Read from what is kept alone, of a file that had this size and mark."""
        self.size, self._mark, self.ranged, self._offline = size, mark, True, True

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`, fewer at the end. Raises RemoteError, or InputError if it changed."""
        count = max(0, min(count, self.size - offset))
        if not count:
            return b""
        first, last = offset // _PAGE, (offset + count - 1) // _PAGE
        held = self._held(range(first, last + 1))
        missing = [page for page in range(first, last + 1) if page not in held]
        for run in _runs(missing, 0):
            held |= self._fetched(*run)
        whole = b"".join(held[page] for page in range(first, last + 1))
        start = offset - first * _PAGE
        return whole[start : start + count]

    def ahead(self, ranges: Iterable[tuple[int, int]]) -> None:
        """Fetch bytes (offset, count) that will be read, of neighbours together."""
        missing = self._missing(ranges)
        if len(missing) > _KEPT // 2 and self._store is None:
            return  # they would not be kept until they are read
        asker = asker_of(self._manner)
        for _, found in asker.each(list(_runs(missing, _GAP)), lambda run: self._fetched(*run)):
            if isinstance(found, RemoteError):
                raise found

    def cost(self, ranges: Iterable[tuple[int, int]]) -> int:
        """Return the bytes that `ahead` would fetch: whole pages, and gaps between them."""
        runs = _runs(self._missing(ranges), _GAP)
        return sum(min((last + 1) * _PAGE, self.size) - first * _PAGE for first, last in runs)

    def _missing(self, ranges: Iterable[tuple[int, int]]) -> list[int]:
        """Return the pages of ranges that are not at hand, ascending."""
        pages = set[int]()
        for offset, count in ranges:
            end = min(offset + count, self.size)
            if offset < end:
                pages |= set(range(offset // _PAGE, (end - 1) // _PAGE + 1))
        return sorted(pages - set(self._held(sorted(pages))))

    def was_kept(self, offset: int, count: int) -> bool:
        """Return whether all of a range was at hand before this run."""
        pages = range(offset // _PAGE, (min(offset + max(count, 1), self.size) - 1) // _PAGE + 1)
        return self.holds(offset, count) and self._came.isdisjoint(pages)

    def holds(self, offset: int, count: int) -> bool:
        """Whether all of a range is at hand."""
        pages = range(offset // _PAGE, (min(offset + max(count, 1), self.size) - 1) // _PAGE + 1)
        return len(self._held(pages)) == len(pages)

    def _held(self, pages: Iterable[int]) -> dict[int, bytes]:
        with self._lock:
            held = {page: self._pages[page] for page in pages if page in self._pages}
        if self._store is not None:
            for page in pages:
                if page not in held and (data := self._store.page(self._name(page))) is not None:
                    held[page] = data
        return held

    def _name(self, page: int) -> str:
        return f"{self._key} {self._mark} {self.size} {page}"

    def _hold(self, first: int, data: bytes) -> dict[int, bytes]:
        """Keep the pages from `first` that `data` holds."""
        starts = range(0, len(data), _PAGE)
        pages = {first + n: data[start : start + _PAGE] for n, start in enumerate(starts)}
        with self._lock:
            self._came.update(pages)
            self._pages.update(pages)
            while len(self._pages) > _KEPT:
                self._pages.popitem(last=False)
        if self._store is not None and self._mark is not None:
            for page, part in pages.items():
                self._store.keep(self._name(page), part)
        return pages

    def _fetched(self, first: int, last: int) -> dict[int, bytes]:
        """Pages from first to last, of one request."""
        if self._offline:
            what = f"not all of {self} that is needed was fetched"
            raise RefusedError(what, "--offline forbids to ask for it", "leave --offline out")
        start, end = first * _PAGE, min((last + 1) * _PAGE, self.size)
        answer = self._asked(start, end)
        same = answer.headers.get("content-range", "").rpartition("/")[2] == str(self.size)
        if answer.status != 206 or answer.mark != self._mark or not same:
            raise changed(self)
        self._check_range(answer, start, end, self.size)
        return self._hold(first, answer.data)

    def _asked(self, start: int, end: int) -> Answer:
        """The answer to a request for bytes [start, end)."""

        def taken(answer: Any) -> Answer:
            if answer.status_code != 206 or packed(answer):  # a part of what is packed is of no use
                return Answer(200, dict(answer.headers), b"")  # all of it would be saved
            data = b"".join(parts_of(answer, end - start, self._request.told))
            return Answer(206, dict(answer.headers), data)

        return self._answered(taken, (200, 206), ("Range", f"bytes={start}-{end - 1}"))

    def _answered(self, take: Callable[[Any], T], wanted: tuple[int, ...], *more: tuple[str, str]) -> T:
        """What `take` makes of the answer; an address that does not hold any more is asked for anew, once."""
        asker = asker_of(self._manner)
        try:
            return asker.stream(self._request._replace(headers=(*self._request.headers, *more)), take, wanted)
        except DeniedError:
            if self._renew is None:
                raise
        self._request = self._renew()
        return asker.stream(self._request._replace(headers=(*self._request.headers, *more)), take, wanted)

    def _check_range(self, answer: Answer, start: int, end: int, size: int) -> None:
        """Raise RemoteError where a server gave another range than bytes [start, end) of `size`."""
        said = re.sub(r"\s+", "", answer.headers.get("content-range", "").lower())
        if said != f"bytes{start}-{end - 1}/{size}" or len(answer.data) != end - start:
            what = f"{self} gives another part than the one that was asked for"
            why = f"bytes {start:,} to {end - 1:,} were asked for, {len(answer.data):,} came, called {said!r}"
            raise RemoteError(what, why, "fetch the file as a whole, and name that")

    def save(self, file: Path) -> None:
        """Fetch all of it into `file`. Raises RemoteError, ResourceError if the disk is too small."""
        free = shutil.disk_usage(file.parent).free

        def taken(answer: Any) -> int:
            written = 0
            with file.open("wb") as out:
                for data in parts_of(answer, None, str(self)):
                    written += len(data)
                    if written > free * 0.95:
                        raise ResourceError(
                            f"{self} does not fit", f"{show_bytes(free)} are free", "free some space"
                        )
                    out.write(data)
            said = answer.headers.get("content-length")
            came = answer.num_bytes_downloaded
            if said is not None and said.isdigit() and int(said) != came:
                why = f"{came:,} of {int(said):,} bytes came"
                raise RemoteError(f"{self} ends early", why, "try again later")
            return written

        traffic.meet(str(self), self._answered(taken, (200,)))


def _runs(pages: list[int], gap: int) -> Iterable[tuple[int, int]]:
    """First and last pages of what is asked for together."""
    run: list[int] = []
    for page in pages:
        if run and (page > run[1] + 1 + gap or page - run[0] >= _MOST):
            yield run[0], run[1]
            run = []
        run = [run[0], page] if run else [page, page]
    if run:
        yield run[0], run[1]
