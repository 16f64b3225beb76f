"""A service that is asked: every answer is looked for among what was kept before its server is."""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

from zembrel.errors import RefusedError, RemoteError
from zembrel.sources.sourcefile import SourceFile
from zembrel.web.asking import Answer, Manner, Request, asker_of
from zembrel.web.cache import Kept, WebCache

_GONE = (204, 404, 410)
_GONE_AGE = 86_400.0  # seconds for which nothing there is believed
_AGAIN = 2  # times that what does not hold together is asked for again
Check = Callable[[bytes, str], None]  # raises ValueError for what is not what it should be


class Dead(NamedTuple):
    """A piece that could not be had, and why."""

    piece: Request
    error: RemoteError


def cache_folder() -> Path:
    """Where answers are kept: ZEMBREL_CACHE, or the user's folder for such things."""
    from platformdirs import user_cache_path

    said = os.environ.get("ZEMBREL_CACHE")
    return Path(said) if said else user_cache_path("zembrel") / "sources"


@dataclass(frozen=True)
class Service:
    """How a source is asked, and where its answers are kept.

    own: the name they are kept under; age: seconds for which they are believed; offline: nothing is asked.
    """

    own: str
    manner: Manner
    cache: WebCache
    age: float | None = None
    offline: bool = False

    @classmethod
    def of(cls, source: SourceFile, *, offline: bool = False) -> Service:
        return cls(source.own, source.manner, WebCache(cache_folder()), source.age, offline)

    def piece(self, piece: Request, check: Check) -> Kept:
        """The answer; of status 404 if there is nothing there.

        Raises RemoteError where it cannot be had, RefusedError where it would have to be asked for offline.
        """
        kept = self.cache.get(self.own, piece.key)
        if kept is not None and (self.offline or self._fresh(kept.stored, kept.status)):
            return kept
        if self.offline:
            what = f"{piece.told} was never fetched"
            raise RefusedError(what, "--offline forbids to ask for it", "leave --offline out")
        request = piece
        if kept is not None and kept.mark is not None and kept.status == 200:
            name = "If-Modified-Since" if "," in kept.mark and '"' not in kept.mark else "If-None-Match"
            request = request._replace(headers=(*request.headers, (name, kept.mark)))
        answer = self._asked(request, check)
        if answer.status == 304 and kept is not None:
            kept = kept._replace(stored=time.time())
        else:
            status = 404 if answer.status in _GONE else 200
            kept = Kept(time.time(), status, answer.type, answer.mark, answer.data if status == 200 else b"")
        self.cache.put(self.own, piece.key, kept)
        return kept

    def drop(self, piece: Request) -> None:
        """Forget an answer that turned out to be wrong."""
        self.cache.drop(self.own, piece.key)

    def missing(self, pieces: Sequence[Request]) -> list[Request]:
        """Those of `pieces` that would have to be asked for."""
        stored = self.cache.stored(self.own, [piece.key for piece in pieces])
        known = {key for key, (when, status) in stored.items() if self.offline or self._fresh(when, status)}
        return [piece for piece in pieces if piece.key not in known]

    def kept_since(self, pieces: Sequence[Request], moment: float) -> int:
        """Return how many of `pieces` were kept before a moment, in seconds since 1970."""
        stored = self.cache.stored(self.own, [piece.key for piece in pieces])
        return sum(
            when < moment and (self.offline or self._fresh(when, status)) for when, status in stored.values()
        )

    def bring(self, pieces: Iterable[Request], check: Check) -> Iterator[tuple[Request, Dead | None]]:
        """Ask for pieces, several at a time, as they come; those that cannot be had with why."""
        asker = asker_of(self.manner)
        for piece, found in asker.each(pieces, lambda piece: self.piece(piece, check).status):
            yield piece, Dead(piece, found) if isinstance(found, RemoteError) else None

    def text(self, piece: Request, check: Check) -> bytes:
        """The bytes of a document. Raises RemoteError also where there is none."""
        kept = self.piece(piece, check)
        if kept.status != 200:
            what = f"{piece.told} is not there"
            raise RemoteError(what, "the server says that it has nothing of that name", "check the address")
        return kept.data if kept.file is None else kept.file.read_bytes()

    def believing(self, seconds: float) -> Service:
        """The same, whose answers are believed for so long at most."""
        return replace(self, age=seconds if self.age is None else min(self.age, seconds))

    def believes(self, kept: Kept) -> bool:
        """Whether what was kept is not too old."""
        return self.offline or self._fresh(kept.stored, kept.status)

    def _fresh(self, stored: float, status: int) -> bool:
        age = _GONE_AGE if status != 200 else self.age
        return age is None or time.time() - stored < age

    def _asked(self, request: Request, check: Check) -> Answer:
        """The answer, if it holds together; a server that gives something else is asked again."""
        for attempt in range(_AGAIN + 1):
            answer = asker_of(self.manner).ask(request, (200, 304, *_GONE))
            if answer.status != 200:
                return answer
            try:
                check(answer.data, answer.type)
                return answer
            except ValueError as exc:
                why = str(exc)
            if attempt < _AGAIN:
                time.sleep(random.uniform(0.1, 0.3))
        raise RemoteError(
            f"{request.told} gives something else", why, "check the address, or try again later"
        )
