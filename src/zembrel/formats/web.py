"""Files at http and https addresses, of which only what is needed is read where the server allows it.

Source: RFC 9110, "HTTP Semantics", section 14 (range requests). Ranges are fetched in whole pages and kept;
a file that changes meanwhile is refused. What a server gives only as a whole is fetched as a whole.
"""

from __future__ import annotations

import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple, TypeVar
from urllib.parse import unquote, urlsplit

from zembrel.errors import InputError, RefusedError, RemoteError, ResourceError
from zembrel.formats.handles import Stamp
from zembrel.formats.origin import Origin, own_folder
from zembrel.measure import show_bytes

T = TypeVar("T")

_PAGE, _KEPT = 65_536, 1_024  # bytes of a page, and how many are kept
_TRIES, _PAUSE, _PATIENCE = 3, 0.3, 30.0  # seconds
_PASSING = (429, 500, 502, 503, 504)


def is_address(word: str) -> bool:
    """Whether `word` is an address on the web."""
    return word.lower().startswith(("http://", "https://"))


@dataclass
class Traffic:
    """What was asked of the web: requests, bytes that came, and sizes of the files they are of."""

    requests: int = 0
    bytes: int = 0
    sizes: dict[str, int] = field(default_factory=dict)

    @property
    def facts(self) -> dict[str, int] | None:
        """Requests, bytes that came, remote files and their size; None if there were no requests."""
        if not self.requests:
            return None
        sizes = self.sizes.values()
        return {"requests": self.requests, "bytes": self.bytes, "files": len(sizes), "size": sum(sizes)}


traffic = Traffic()


@cache
def _client() -> Any:
    import httpx

    return httpx.Client(follow_redirects=True, timeout=_PATIENCE)


def at_address(address: str, offline: bool, by_ranges: Callable[[bytes], bool]) -> Origin:
    """The file at `address`.

    by_ranges: whether a file that begins so is read in parts. Raises RefusedError if `offline`, RemoteError
    if the server does not give it.
    """
    if offline:
        raise RefusedError(
            f"{address} is on the web",
            "--offline forbids to ask for it",
            "leave --offline out, or name a file",
        )
    parts = urlsplit(address)
    *folders, inner = [part for part in unquote(parts.path).split("/") if part not in ("", ".", "..")] or [
        "file"
    ]
    query = [parts.query.replace("/", "_")] if parts.query else []  # two addresses are two names
    name, file = Path(parts.netloc, *folders, *query, inner), own_folder() / inner
    source = Remote(address, file)
    head = source.begin()
    if source.ranged and by_ranges(head):
        return Origin(name, file, source)
    source.save(file)
    return Origin(name, file)


class Answer(NamedTuple):
    """What a server said to a request for a part."""

    status_code: int
    headers: dict[str, str]
    data: bytes


class Remote:
    """The file at an address: a `Source` of bytes for the file handles.

    file: what it would be on this machine; nothing is there unless it is saved.
    """

    def __init__(self, address: str, file: Path) -> None:
        self._address = address
        self.file = file
        self._pages: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()
        self._mark: str | None = None  # by which a changed file is known
        self.ranged = False
        self.size = 0

    def __str__(self) -> str:
        return self._address

    def __getstate__(self) -> dict[str, Any]:
        """What another process needs to go on reading: pages that are held stay here."""
        return {name: held for name, held in vars(self).items() if name not in ("_pages", "_lock")}

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state, _pages=OrderedDict(), _lock=threading.Lock())

    @property
    def stamp(self) -> Stamp:
        return Stamp(0, 0, self.size)

    def begin(self) -> bytes:
        """The first page; learns the size and whether ranges are to be had. Raises RemoteError."""
        answer = self._asked(0, _PAGE)
        total = answer.headers.get("content-range", "").rpartition("/")[2]
        self.ranged = answer.status_code == 206 and total.isdigit()
        self._mark = answer.headers.get("etag") or answer.headers.get("last-modified")
        data = answer.data
        self.size = int(total) if self.ranged else int(answer.headers.get("content-length", 0) or 0)
        traffic.sizes[self._address] = self.size
        self._pages[0] = data
        return data

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`, fewer at the end. Raises RemoteError, or InputError if it changed."""
        count = max(0, min(count, self.size - offset))
        if not count:
            return b""
        first, last = offset // _PAGE, (offset + count - 1) // _PAGE
        with self._lock:
            held = {page: self._pages[page] for page in range(first, last + 1) if page in self._pages}
        missing = [page for page in range(first, last + 1) if page not in held]
        while missing:  # each run of neighbours in one request
            run = [missing.pop(0)]
            while missing and missing[0] == run[-1] + 1:
                run.append(missing.pop(0))
            held |= self._fetched(run[0], run[-1])
        whole = b"".join(held[page] for page in range(first, last + 1))
        start = offset - first * _PAGE
        return whole[start : start + count]

    def _fetched(self, first: int, last: int) -> dict[int, bytes]:
        start, end = first * _PAGE, min((last + 1) * _PAGE, self.size)
        answer = self._asked(start, end)
        mark = answer.headers.get("etag") or answer.headers.get("last-modified")
        if answer.status_code != 206 or mark != self._mark or len(answer.data) != end - start:
            raise InputError(
                f"{self._address} was changed while it was read",
                "the result would be part old, part new",
                "start again once it is complete",
            )
        pages = {
            page: answer.data[(page - first) * _PAGE : (page - first + 1) * _PAGE]
            for page in range(first, last + 1)
        }
        with self._lock:
            self._pages.update(pages)
            while len(self._pages) > _KEPT:
                self._pages.popitem(last=False)
        return pages

    def _asked(self, start: int, end: int) -> Answer:
        """The answer to a request for bytes [start, end)."""

        def taken(answer: Any) -> Answer:
            data = answer.read() if answer.status_code == 206 else b""  # without ranges it is saved
            traffic.bytes += len(data)
            return Answer(answer.status_code, dict(answer.headers), data)

        return self._answered({"Range": f"bytes={start}-{end - 1}"}, (200, 206), taken)

    def _answered(self, headers: dict[str, str], wanted: tuple[int, ...], take: Callable[[Any], T]) -> T:
        """What `take` makes of the answer; asks again where a fault may pass. Raises RemoteError."""
        import httpx

        why = ""
        for attempt in range(_TRIES):
            if attempt:
                time.sleep(_PAUSE * 2**attempt)
            try:
                with _client().stream("GET", self._address, headers=headers) as answer:
                    traffic.requests += 1
                    if answer.status_code in wanted:
                        return take(answer)
                    why = f"the server answers {answer.status_code} {answer.reason_phrase}"
                    if answer.status_code not in _PASSING:
                        break
            except httpx.HTTPError as exc:
                why = f"{exc}" or type(exc).__name__
        raise RemoteError(f"{self._address} cannot be read", why, "check the address, or try again later")

    def save(self, file: Path) -> None:
        """Fetch all of it into `file`. Raises RemoteError, ResourceError if the disk is too small."""
        free = shutil.disk_usage(file.parent).free

        def taken(answer: Any) -> int:
            written = 0
            with file.open("wb") as out:
                for data in answer.iter_bytes():
                    written += len(data)
                    if written > free * 0.95:
                        raise ResourceError(
                            f"{self._address} does not fit", f"{show_bytes(free)} are free", "free some space"
                        )
                    out.write(data)
            return written

        size = self._answered({}, (200,), taken)
        traffic.bytes += size
        traffic.sizes[self._address] = size
