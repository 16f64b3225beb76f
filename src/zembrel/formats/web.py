"""Files at http and https addresses, of which only what is needed is read where the server allows it.

Source: RFC 9110, "HTTP Semantics", section 14 (range requests). Ranges are fetched in whole pages and kept;
a file that changes meanwhile is refused. What a server gives only as a whole is fetched as a whole.
A server is not believed: it gives the range that was asked for, of the length that it says, at more than a
trickle, and does not lead from the web into a private network.
"""

from __future__ import annotations

import hashlib
import re
import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple, TypeVar
from urllib.parse import unquote, urlsplit

from zembrel.errors import RefusedError, RemoteError, ResourceError
from zembrel.formats.addresses import check_hop, shown
from zembrel.formats.origin import Origin, own_folder
from zembrel.measure import show_bytes
from zembrel.progress import tell
from zembrel.reading import TRUST, Stamp, changed, readings

T = TypeVar("T")

_PAGE, _KEPT = 65_536, 1_024  # bytes of a page, and how many are kept
_TRIES, _PAUSE, _PATIENCE = 3, 0.3, 30.0  # seconds
_PASSING = (429, 500, 502, 503, 504)
_HOPS = 5  # redirects that are followed
_GRACE, _TRICKLE = (
    30.0,
    2_000,
)  # seconds before a slow answer is given up, and bytes a second that are too few
_PLAIN = {"Accept-Encoding": "identity"}  # nothing is unpacked on the way


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

    return httpx.Client(follow_redirects=False, timeout=_PATIENCE, headers=_PLAIN)


def at_address(address: str, offline: bool, by_ranges: Callable[[bytes], bool]) -> Origin:
    """The file at `address`.

    by_ranges: whether a file that begins so is read in parts. Raises RefusedError if `offline`, RemoteError
    if the server does not give it.
    """
    if offline:
        raise RefusedError(
            f"{shown(address)} is on the web",
            "--offline forbids to ask for it",
            "leave --offline out, or name a file",
        )
    parts = urlsplit(address)
    *folders, inner = [part for part in unquote(parts.path).split("/") if part not in ("", ".", "..")] or [
        "file"
    ]
    # two addresses are two names, and no name holds a key
    query = [hashlib.sha256(parts.query.encode()).hexdigest()[:8]] if parts.query else []
    host = urlsplit(shown(address)).netloc
    name, file = Path(host, *folders, *query, inner), own_folder() / inner
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
        self._place, self._hops = address, 0  # where redirects lead, and how many
        self._mark: str | None = None  # by which a changed file is known
        self.ranged = False
        self.size = 0

    def __str__(self) -> str:
        return shown(self._address)

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
        if self.ranged:
            self._check_range(answer, 0, min(_PAGE, int(total)), int(total))
        self._mark = answer.headers.get("etag") or answer.headers.get("last-modified")
        data = answer.data
        self.size = int(total) if self.ranged else int(answer.headers.get("content-length", 0) or 0)
        traffic.sizes[str(self)] = self.size
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
        same = answer.headers.get("content-range", "").rpartition("/")[2] == str(self.size)
        if answer.status_code == 206 and mark == self._mark and same:
            self._check_range(answer, start, end, self.size)
        else:
            raise changed(self)
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
            data = (
                b"".join(_parts(answer, end - start)) if answer.status_code == 206 else b""
            )  # else it is saved
            traffic.bytes += len(data)
            return Answer(answer.status_code, dict(answer.headers), data)

        return self._answered({"Range": f"bytes={start}-{end - 1}"}, (200, 206), taken)

    def _check_range(self, answer: Answer, start: int, end: int, size: int) -> None:
        """Raise RemoteError where a server gave another range than bytes [start, end) of `size`."""
        said = re.sub(r"\s+", "", answer.headers.get("content-range", "").lower())
        if said != f"bytes{start}-{end - 1}/{size}" or len(answer.data) != end - start:
            what = f"{self} gives another part than the one that was asked for"
            why = f"bytes {start:,} to {end - 1:,} were asked for, {len(answer.data):,} came, called {said!r}"
            raise RemoteError(what, why, "fetch the file as a whole, and name that")

    def _answered(self, headers: dict[str, str], wanted: tuple[int, ...], take: Callable[[Any], T]) -> T:
        """What `take` makes of the answer; asks again where a fault may pass. Raises RemoteError."""
        import httpx

        why, attempt = "", 0
        while attempt < _TRIES:
            if attempt:
                time.sleep(_PAUSE * 2**attempt)
            try:
                with _client().stream("GET", self._place, headers=headers) as answer:
                    traffic.requests += 1
                    if answer.status_code in wanted:
                        return take(answer)
                    if answer.next_request is not None:
                        self._moved(str(answer.next_request.url))
                        continue
                    why = f"the server answers {answer.status_code} {answer.reason_phrase}"
                    if answer.status_code not in _PASSING:
                        break
            except httpx.HTTPError as exc:
                why = f"{exc}".replace(self._address, str(self)) or type(exc).__name__
            attempt += 1
        raise RemoteError(f"{self} cannot be read", why, "check the address, or try again later")

    def _moved(self, target: str) -> None:
        """Look at another place from now on. Raises RemoteError if that is no place to follow to."""
        self._hops += 1
        if self._hops > _HOPS:
            what, why = f"{self} leads from one place to the next", f"{_HOPS} were followed"
            raise RemoteError(what, why, "name the last one")
        check_hop(self._address, target)
        tell(f"{shown(self._place)} is found at {shown(target)}")
        self._place = target

    def save(self, file: Path) -> None:
        """Fetch all of it into `file`. Raises RemoteError, ResourceError if the disk is too small."""
        free = shutil.disk_usage(file.parent).free

        def taken(answer: Any) -> int:
            written = 0
            with file.open("wb") as out:
                for data in _parts(answer, None):
                    written += len(data)
                    if written > free * 0.95:
                        raise ResourceError(
                            f"{self} does not fit", f"{show_bytes(free)} are free", "free some space"
                        )
                    out.write(data)
            return written

        size = self._answered({}, (200,), taken)
        traffic.bytes += size
        traffic.sizes[str(self)] = size


def _parts(answer: Any, most: int | None) -> Iterator[bytes]:
    """The body as it comes, of `most` bytes. Raises RemoteError for a longer one, or a trickle."""
    came, began = 0, time.monotonic()
    for data in answer.iter_raw():
        came += len(data)
        seconds = time.monotonic() - began
        where = shown(str(answer.url))
        if most is not None and came > most:
            why = f"{most:,} bytes were asked for, and more come"
            raise RemoteError(f"{where} does not stop", why, "fetch the file as a whole, and name that")
        if seconds > _GRACE and came < _TRICKLE * seconds and not readings.trusted:
            why = f"{came:,} bytes came in {seconds:.0f} s"
            raise RemoteError(f"{where} answers too slowly", why, f"try again later, or {TRUST}")
        yield data
