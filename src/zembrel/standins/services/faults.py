"""What goes wrong with servers, on purpose: slow, failing, garbage, cut connections, gone versions, gzip."""

from __future__ import annotations

import asyncio
import dataclasses
import gzip
import random
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

_MOST = 1_000_000
_PAGE = b"<!DOCTYPE html><html><head><title>Sorry</title></head><body>We are moving house.</body></html>"


@dataclass
class Faults:
    """Shares of requests, 0 to 1, that are slow (by so many seconds), fail, give a page, are cut, or packed.

    dead: a part of the path of what always fails; leave_alone: seconds in Retry-After; version: the one there
    is, others are gone; control: what sets these is never meddled with.
    """

    fail: float = 0.0
    slow: float = 0.0
    seconds: float = 1.0
    garbage: float = 0.0
    cut: float = 0.0
    packed: float = 0.0
    dead: str = ""
    leave_alone: float = 0.0
    version: str = "912"
    asked: int = 0
    seed: int = 1

    def change(self, said: Mapping[str, str]) -> dict[str, Any]:
        """Set what is said; all there is. Raises ValueError."""
        types = {field.name: type(getattr(self, field.name)) for field in dataclasses.fields(self)}
        values = {name: kind(said[name]) for name, kind in types.items() if name in said}
        for name, value in values.items():
            if isinstance(value, float | int) and not 0 <= value < _MOST:
                raise ValueError(f"{name} has 0 to {_MOST:,}, and is {said[name]}")
        vars(self).update(values)
        if "seed" in said or "fail" in said:
            self._chance = random.Random(self.seed)
        return dataclasses.asdict(self)

    def __post_init__(self) -> None:
        self._chance = random.Random(self.seed)

    def happens(self, share: float) -> bool:
        return share > 0 and self._chance.random() < share


class FaultyApp:
    """An application behind faults."""

    def __init__(self, app: Any, faults: Faults) -> None:
        self._app, self._faults = app, faults

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        faults = self._faults
        if scope["type"] != "http" or scope["path"].startswith("/faults"):
            await self._app(scope, receive, send)
            return
        faults.asked += 1
        if faults.happens(faults.slow):
            await asyncio.sleep(faults.seconds)
        if (faults.dead and faults.dead in scope["path"]) or faults.happens(faults.fail):
            headers = [(b"retry-after", str(faults.leave_alone).encode())] if faults.leave_alone else []
            await _answer(send, 503, b"busy", b"text/plain", headers)
        elif faults.happens(faults.garbage):
            await _answer(send, 200, _PAGE, b"text/html", [])
        elif faults.happens(faults.cut):
            await self._app(scope, receive, _Cutting(send))
        elif faults.happens(faults.packed):
            await self._app(scope, receive, _Packing(send))
        else:
            await self._app(scope, receive, send)


async def _answer(
    send: Any, status: int, body: bytes, kind: bytes, headers: list[tuple[bytes, bytes]]
) -> None:
    head = [(b"content-type", kind), (b"content-length", str(len(body)).encode()), *headers]
    await send({"type": "http.response.start", "status": status, "headers": head})
    await send({"type": "http.response.body", "body": body})


class _Cutting:
    """Sends half of a body and then nothing more."""

    def __init__(self, send: Any) -> None:
        self._send = send

    async def __call__(self, message: Any) -> None:
        if message["type"] == "http.response.body" and message.get("body"):
            body = message["body"]
            await self._send({**message, "body": body[: len(body) // 2], "more_body": False})
            return
        await self._send(message)


class _Packing:
    """Compresses a body, whether or not that was asked for."""

    def __init__(self, send: Any) -> None:
        self._send, self._start, self._body = send, dict[str, Any](), b""

    async def __call__(self, message: Any) -> None:
        if message["type"] == "http.response.start":
            self._start = message
            return
        self._body += message.get("body", b"")
        if not message.get("more_body"):
            body = gzip.compress(self._body)
            kept = [(name, value) for name, value in self._start["headers"] if name != b"content-length"]
            said = [(b"content-encoding", b"gzip"), (b"content-length", str(len(body)).encode())]
            await self._send({**self._start, "headers": [*kept, *said]})
            await self._send({"type": "http.response.body", "body": body})
