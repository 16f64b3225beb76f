"""The server at work: for as long as it is asked to be there."""

from __future__ import annotations

import signal
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import uvicorn
from uvicorn.server import HANDLED_SIGNALS

from zembrel.standins.services.app import Island, make_app

_WAIT = 20.0  # seconds until it has to answer


def run(island: Island, host: str, port: int) -> None:
    """Serve until the process is interrupted. Raises OSError if the port is taken."""
    with _listening(host, port) as door:
        _server(island).run([door])


@contextmanager
def served(island: Island, host: str = "127.0.0.1", port: int = 0) -> Iterator[str]:
    """Serve from another thread inside; gives the address. Raises OSError if the port is taken."""
    with _listening(host, port) as door:
        server = _server(island)
        thread = threading.Thread(target=server.run, args=([door],), daemon=True)
        thread.start()
        until = time.monotonic() + _WAIT
        while not server.started and thread.is_alive() and time.monotonic() < until:
            time.sleep(0.01)
        try:
            yield f"http://{host}:{door.getsockname()[1]}"
        finally:
            server.should_exit = True
            thread.join(_WAIT)


@contextmanager
def _listening(host: str, port: int) -> Iterator[socket.socket]:
    door = socket.socket()
    door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        door.bind((host, port))
        yield door
    finally:
        door.close()


class _Server(uvicorn.Server):
    """A server that leaves signals alone that whoever started the process has turned off."""

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        heard = HANDLED_SIGNALS if threading.current_thread() is threading.main_thread() else ()
        off = [number for number in heard if signal.getsignal(number) is signal.SIG_IGN]
        with super().capture_signals():
            for number in off:
                signal.signal(number, signal.SIG_IGN)
            yield


def _server(island: Island) -> Any:
    config = uvicorn.Config(
        make_app(island), log_level="critical", lifespan="off", timeout_graceful_shutdown=1
    )
    return _Server(config)
