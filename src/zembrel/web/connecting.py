"""Connections to public machines alone: the address that was checked is the one that is connected to.

A name may lead to another address from one look to the next. Looking first and connecting by name would
check one machine and ask another.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from zembrel.web.addresses import public_places

if TYPE_CHECKING:
    import httpx


def public_transport(limits: httpx.Limits) -> httpx.HTTPTransport:
    """Return a transport that refuses, before anything is sent, machines of private networks."""
    import httpcore
    import httpx

    class Backend(httpcore.SyncBackend):
        """Looks a host up once, and connects to what was found and checked."""

        def connect_tcp(self, host: str, port: int, *args: Any, **more: Any) -> httpcore.NetworkStream:
            try:
                places = public_places(host, port)
            except (OSError, UnicodeError) as exc:
                raise httpcore.ConnectError(str(exc)) from exc
            for n, place in enumerate(places):
                try:
                    return super().connect_tcp(place, port, *args, **more)
                except httpcore.ConnectError:
                    if n + 1 == len(places):
                        raise
            raise httpcore.ConnectError(f"{host} has no address")

    transport = httpx.HTTPTransport(limits=limits)
    transport._pool._network_backend = Backend()
    return transport
