"""Asking servers: how many at a time, how often again, and where they may lead.

Source: RFC 9110, "HTTP Semantics", sections 10.2.3 (Retry-After) and 15.4 (redirects). Where a fault may
pass, a server is asked again after a pause that doubles and varies, so that many who wait do not come back
at once; a server that says how long it wants to be left alone is left alone.
"""

from __future__ import annotations

import hashlib
import os
import random
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from functools import cache
from typing import Any, NamedTuple, TypeVar

from zembrel.errors import RemoteError, UsageError
from zembrel.progress import tell
from zembrel.redaction import keep
from zembrel.version import program_version
from zembrel.web.addresses import WebOrigin, by_proxy, check_hop, check_host, origin_of, shown
from zembrel.web.bodies import parts_of
from zembrel.web.connecting import public_transport
from zembrel.web.traffic import traffic

T = TypeVar("T")
K = TypeVar("K")

_NEVER = threading.Event()  # of requests that somebody waits for: it is never set
_PASSING = (408, 425, 429, 500, 502, 503, 504)
_DENIED = (400, 401, 403)
_HOPS = 5  # redirects that are followed
_PAUSE, _LONGEST = 0.2, 4.0  # seconds before asking again at first, and at most
_LEFT_ALONE = 120.0  # seconds that a server may ask for at most


class DeniedError(RemoteError):
    """A server does not let this request pass; another address of the same thing may do."""


@dataclass(frozen=True)
class Manner:
    """How a server is asked.

    headers: names and values, in which `$NAME` is a variable of the environment; own: the scheme, host and
    port that alone get the headers; hosts: that may be asked; private: whether machines of private networks
    may be asked; parallel: requests at a time; per_second: requests, 0 for no limit; tries: of a request;
    seconds: patience with an answer that does not come; most: bytes of an answer.
    """

    headers: tuple[tuple[str, str], ...] = ()
    own: WebOrigin | None = None
    hosts: tuple[str, ...] | None = None  # None: wherever on the web
    private: bool = True
    parallel: int = 8
    per_second: float = 0.0
    tries: int = 3
    seconds: float = 30.0
    most: int = 256_000_000


class Request(NamedTuple):
    """What is asked for: the address, the form of it that may be told, and the key by which it is kept."""

    address: str
    told: str
    key: str
    headers: tuple[tuple[str, str], ...] = ()

    @classmethod
    def of(cls, address: str, told: str | None = None) -> Request:
        """A request whose query is not told, since it may hold a secret; each query has a key of its own."""
        said = shown(address if told is None else told)
        mark = hashlib.sha256((address if told is None else told).encode()).hexdigest()[:16]
        return cls(address, said, f"{said} {mark}")


class Answer(NamedTuple):
    """What a server said."""

    status: int
    headers: Mapping[str, str]
    data: bytes

    @property
    def type(self) -> str:
        """The media type, without parameters."""
        return self.headers.get("content-type", "").partition(";")[0].strip().lower()

    @property
    def mark(self) -> str | None:
        """By which a changed file is known."""
        return self.headers.get("etag") or self.headers.get("last-modified")


@cache
def asker_of(manner: Manner) -> Asker:
    """The one of this process that asks in this manner."""
    return Asker(manner)


class Asker:
    """Asks servers in one manner, from any number of threads."""

    def __init__(self, manner: Manner) -> None:
        self.manner = manner
        self._lock = threading.Lock()
        self._next = 0.0  # when the next request may go out
        self._of_thread = threading.local()  # its `stop` is set when nobody waits for these answers any more
        self._held: Any = None

    def ask(self, request: Request, wanted: tuple[int, ...] = (200,)) -> Answer:
        """The answer, as a whole. Raises RemoteError for any status but those `wanted`."""
        most = self.manner.most

        def taken(answer: Any) -> Answer:
            return Answer(answer.status_code, answer.headers, b"".join(parts_of(answer, most, request.told)))

        return self.stream(request, taken, wanted)

    def stream(self, request: Request, take: Callable[[Any], T], wanted: tuple[int, ...]) -> T:
        """What `take` makes of the answer; asks again where a fault may pass. Raises RemoteError."""
        import httpx

        manner, place, hops, why, attempt = self.manner, request.address, 0, "", 0
        denied = False
        while attempt < manner.tries:
            if attempt:
                self._stop.wait(random.uniform(0.5, 1.0) * min(_LONGEST, _PAUSE * 2**attempt))
            self._wait()
            if self._stop.is_set():
                why = "the run was stopped"
                break
            check_host(place, request.told, manner.hosts, private=manner.private)
            try:
                with self._client.stream("GET", place, headers=self._headers(request, place)) as answer:
                    traffic.add(1)
                    if answer.status_code in wanted:
                        return take(answer)
                    if answer.next_request is not None:
                        target = str(answer.next_request.url)
                        hops += 1
                        self._check_way(request, target, hops)
                        place = target
                        continue
                    why = f"the server answers {answer.status_code} {answer.reason_phrase}"
                    if answer.status_code not in _PASSING:
                        denied = answer.status_code in _DENIED
                        break
                    self._leave_alone(answer.headers.get("retry-after"))
            except httpx.HTTPError as exc:
                why = f"{exc}".replace(request.address, request.told) or type(exc).__name__
            attempt += 1
        kind = DeniedError if denied else RemoteError
        raise kind(f"{request.told} cannot be read", why, "check the address, or try again later")

    def each(self, keys: Iterable[K], do: Callable[[K], T]) -> Iterator[tuple[K, T | RemoteError]]:
        """What `do` makes of each key, as they get done, so many at a time; errors of servers as they are."""
        rest, stop = iter(keys), threading.Event()

        def begin() -> None:
            self._of_thread.stop = stop

        with ThreadPoolExecutor(max(1, self.manner.parallel), initializer=begin) as pool:
            running: dict[Future[T], K] = {}
            try:
                while True:
                    for key in rest:
                        running[pool.submit(do, key)] = key
                        if len(running) >= 2 * self.manner.parallel:
                            break
                    if not running:
                        return
                    done, _ = wait(running, return_when=FIRST_COMPLETED)
                    for future in done:
                        key, error = running.pop(future), future.exception()
                        if error is not None and not isinstance(error, RemoteError):
                            raise error
                        yield key, error if isinstance(error, RemoteError) else future.result()
            except BaseException:
                stop.set()
                raise
            finally:
                for future in running:
                    future.cancel()

    @property
    def _stop(self) -> threading.Event:
        """Whether the answer to a request of this thread is still waited for."""
        stop: threading.Event = getattr(self._of_thread, "stop", _NEVER)
        return stop

    @property
    def _client(self) -> Any:
        """The connections of this process."""
        import httpx

        with self._lock:
            if self._held is None or self._held[0] != os.getpid():
                most = httpx.Limits(
                    max_connections=self.manner.parallel + 2,
                    max_keepalive_connections=self.manner.parallel + 2,
                )
                headers = {"User-Agent": f"zembrel/{program_version()}", "Accept-Encoding": "identity"}
                checked = not self.manner.private and not by_proxy()
                client = httpx.Client(
                    follow_redirects=False, timeout=self.manner.seconds, headers=headers, limits=most,
                    transport=public_transport(most) if checked else None,
                )  # fmt: skip
                self._held = os.getpid(), client
            return self._held[1]

    def _headers(self, request: Request, place: str) -> dict[str, str]:
        """The headers of a request; those of the source go to its own server alone."""
        own = self.manner.own is not None and origin_of(place) == self.manner.own
        held = {name: from_environment(value) for name, value in self.manner.headers} if own else {}
        return held | dict(request.headers)

    def _check_way(self, request: Request, target: str, hops: int) -> None:
        """Raise RemoteError where a redirect is not followed."""
        if hops > _HOPS:
            what, why = f"{request.told} leads from one place to the next", f"{_HOPS} were followed"
            raise RemoteError(what, why, "name the last one")
        check_hop(request.address, target, request.told)
        if self.manner.hosts is None:
            tell(f"{request.told} is found at {shown(target)}")

    def _wait(self) -> None:
        """Hold back until the next request may go out."""
        each = 1 / self.manner.per_second if self.manner.per_second else 0.0
        with self._lock:
            now = time.monotonic()
            due = max(now, self._next)
            self._next = due + each if each or due > now else 0.0
        if due > now:
            self._stop.wait(due - now)

    def _leave_alone(self, said: str | None) -> None:
        """Ask nothing for as long as the server says."""
        seconds = _seconds_of(said)
        if seconds > 0:
            with self._lock:
                self._next = max(self._next, time.monotonic() + min(seconds, _LEFT_ALONE))


def _seconds_of(said: str | None) -> float:
    """How long a server wants to be left alone: seconds, or a date."""
    if said is None:
        return 0.0
    try:
        return float(said)
    except ValueError:
        pass
    try:
        return parsedate_to_datetime(said).timestamp() - time.time()
    except (TypeError, ValueError):
        return 0.0


def from_environment(value: str) -> str:
    """Return `value` with `$NAME` replaced. What stands there is a secret from now on.

    Raises UsageError where there is no such variable, or it holds what no address and no header can.
    """
    text, dollar, name = value.partition("$")
    if not dollar:
        return value
    held = os.environ.get(name)
    if held is None:
        what = f"the environment has no variable {name}"
        raise UsageError(what, "the source needs it to ask its server", f"set it: export {name}=...")
    keep(held, f"${name}")
    if not held.isascii() or not held.isprintable() or held != held.strip():
        what = f"the variable {name} holds a character that no request can carry"
        why = "a key has letters, digits and signs of ASCII, and no blank at its ends"
        raise UsageError(what, why, f"set it again: export {name}=...")
    return text + held
