"""Addresses on the web: how they are told, and where they may lead."""

from __future__ import annotations

import ipaddress
import os
import re
import socket
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import urlsplit

from zembrel.errors import RemoteError, UsageError
from zembrel.redaction import keep_login, redact

_PROXIES = ("http_proxy", "https_proxy", "all_proxy")
_PORTS = {"http": 80, "https": 443}
_NAT64 = ipaddress.IPv6Network("64:ff9b::/96")
_NAT64_LOCAL = ipaddress.IPv6Network("64:ff9b:1::/48")


def is_address(word: str) -> bool:
    """Whether `word` is an address on the web."""
    return word.lower().startswith(("http://", "https://"))


def shown(address: str) -> str:
    """Return an address for people: without its login and its query, which may hold a key.

    The login is kept as a secret from now on.
    """
    whole = without_login(address)
    place, mark, _ = whole.partition("?")
    return redact(place.partition("#")[0] + ("?..." if mark else ""))


def without_login(address: str) -> str:
    """Return an address without the name and password that it may have, which are kept as a secret.

    A password with a sign that ends a host (/ ? #) is taken out as well, though no server would get it.
    """
    scheme, mark, rest = address.partition("://")
    server = re.split(r"[/?#]", rest, maxsplit=1)[0]
    port = server.rpartition(":")[2] if ":" in server else "0"
    odd = "@" not in server and not port.isdigit() and not server.endswith("]")
    login, at, _ = (rest if odd else server).rpartition("@")
    if not mark or not at:
        return address
    name, _, password = login.partition(":")
    keep_login(name, password)
    return f"{scheme}://{rest[len(login) + 1 :]}"


class WebOrigin(NamedTuple):
    """A scheme, host and port: whom a header or a login is meant for."""

    scheme: str
    host: str
    port: int


def origin_of(address: str) -> WebOrigin:
    """Return the scheme, host and port of an address. Raises UsageError for an address that has none."""
    try:
        parts = urlsplit(address)
        scheme = parts.scheme.lower()
        return WebOrigin(scheme, (parts.hostname or "").rstrip("."), parts.port or _PORTS.get(scheme, 0))
    except ValueError as exc:
        what, why = f"{shown(address)} is no address", "its host or its port cannot be read"
        raise UsageError(what, why, "write / ? # and @ of a password as %2F %3F %23 and %40") from exc


def host_of(address: str) -> str:
    """The host and port of an address, as source files name it."""
    origin = origin_of(address)
    plain = origin.port == _PORTS.get(origin.scheme)
    return origin.host if plain else f"{origin.host}:{origin.port}"


def check_host(address: str, told: str, hosts: tuple[str, ...] | None, *, private: bool) -> None:
    """Raise RemoteError where an address may not be asked: no web address, a host that nobody named, or a
    machine of a private network."""
    if not is_address(address):
        raise RemoteError(f"{told} is no address on the web", "only http and https are asked", "mend it")
    if hosts is not None and host_of(address) not in hosts:
        what = f"{told} leads to {host_of(address)}"
        raise RemoteError(
            what, "the source does not name that host", f'add hosts = ["{host_of(address)}"] to it'
        )
    if not private and _is_private(origin_of(address).host):
        what = f"{host_of(address)} is this machine, or one of a private network"
        raise RemoteError(what, "the source does not say that it may be asked", "add private = true to it")


def check_hop(address: str, target: str, told: str) -> None:
    """Raise RemoteError where a redirect leads to a machine of a private network, or out of encryption."""
    here, there = origin_of(address), origin_of(target)
    leads_in = _is_private(there.host) and not _is_private(here.host)
    what = f"{told} leads to {shown(target)}"
    if there.scheme not in _PORTS or leads_in:
        raise RemoteError(what, "that is no place on the web", "name the address itself, if it is meant")
    if here.scheme == "https" and there.scheme == "http":
        why = "what goes there could be read on the way"
        raise RemoteError(what, why, "name the address itself, if it is meant")


def by_proxy() -> bool:
    """Return True if requests go through a proxy, which looks up hosts by itself."""
    return any(os.environ.get(name) or os.environ.get(name.upper()) for name in _PROXIES)


def public_places(host: str, port: int) -> list[str]:
    """Return the numeric addresses of a host, all of which are public.

    Raises OSError for a host that is unknown, and for one of whose places any is this machine or in a private
    network.
    """
    local = is_local(host)
    looked = [] if local else socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    found = [str(entry[4][0]) for entry in looked]
    if local or not all(map(is_public, found)):
        raise OSError(f"{host} is this machine, or one of a private network")
    return found


@lru_cache(256)
def _is_private(host: str) -> bool:
    """Whether a host is this machine, or one of a private network."""
    if is_local(host):
        return True
    try:
        found = {entry[4][0] for entry in socket.getaddrinfo(host, None)}
    except OSError:
        return False
    return not all(is_public(str(ip)) for ip in found)


def is_local(host: str) -> bool:
    """Return True for the names that mean this machine by RFC 6761."""
    name = host.rstrip(".").lower()
    return name == "localhost" or name.endswith(".localhost")


def is_public(ip: str) -> bool:
    """Return True for a numeric address that anybody can reach.

    An IPv6 address that holds an IPv4 address is as public as that one: mapped, compatible (RFC 4291), 6to4
    (RFC 3056) and NAT64 (RFC 6052).
    """
    place = ipaddress.ip_address(ip.partition("%")[0])
    if isinstance(place, ipaddress.IPv6Address):
        inner = place.ipv4_mapped or place.sixtofour
        number = int(place)
        if inner is None and place in _NAT64:
            inner = ipaddress.IPv4Address(number & 0xFFFF_FFFF)
        if inner is None and number >> 32 == 0 and number > 1:
            inner = ipaddress.IPv4Address(number)
        if inner is not None:
            return is_public(str(inner))
        if place.is_site_local or place in _NAT64_LOCAL or place.teredo is not None:
            return False
    return place.is_global and not place.is_multicast
