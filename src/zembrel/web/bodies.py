"""Read the body of a response: decompressed, with limits on its length and on slow servers.

Source: RFC 9110, "HTTP Semantics", section 8.4 (content codings). Requests ask for none, but some
servers compress anyway.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

from zembrel.errors import RemoteError
from zembrel.reading import TRUST, readings
from zembrel.web.traffic import traffic

_GRACE, _TRICKLE = 30.0, 2_000  # seconds before an answer is too slow, and bytes a second that are too few
_UNPACKED = ("gzip", "deflate")


def packed(answer: Any) -> bool:
    """Return True for a response with a compressed body, which no request asks for."""
    return bool(_codings(answer))


def parts_of(answer: Any, most: int | None, where: str) -> Iterator[bytes]:
    """Yield the decompressed body. Raises RemoteError above `most` bytes, and for very slow servers."""
    unknown = [coding for coding in _codings(answer) if coding not in _UNPACKED]
    if unknown:
        why = f"it is compressed as {unknown[0]}, which was not asked for"
        raise RemoteError(f"{where} cannot be read", why, "get the file by other means, and name that")
    came, began = 0, time.monotonic()
    for data in answer.iter_bytes():
        came += len(data)
        seconds = time.monotonic() - began
        if most is not None and came > most:
            why = f"{most:,} bytes were expected at most, and more come"
            raise RemoteError(f"{where} does not stop", why, "fetch the file as a whole, and name that")
        if seconds > _GRACE and came < _TRICKLE * seconds and not readings.trusted:
            why = f"{came:,} bytes came in {seconds:.0f} s"
            raise RemoteError(f"{where} answers too slowly", why, f"try again later, or {TRUST}")
        yield data
    traffic.add(0, answer.num_bytes_downloaded)


def _codings(answer: Any) -> list[str]:
    named = answer.headers.get("content-encoding", "").lower().split(",")
    return [name for word in named if (name := word.strip().removeprefix("x-")) not in ("", "identity")]
