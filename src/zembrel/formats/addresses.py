"""Addresses on the web: how they are told, and where they may lead."""

from __future__ import annotations

import ipaddress
import socket
from urllib.parse import urlsplit, urlunsplit

from zembrel.errors import RemoteError


def is_address(word: str) -> bool:
    """Whether `word` is an address on the web."""
    return word.lower().startswith(("http://", "https://"))


def shown(address: str) -> str:
    """An address as it may be told: without the credentials and the query, which may hold a key."""
    parts = urlsplit(address)
    host = parts.hostname or ""
    place = f"{host}:{parts.port}" if parts.port else host
    return urlunsplit((parts.scheme, place, parts.path, "..." if parts.query else "", ""))


def check_hop(address: str, target: str) -> None:
    """Raise RemoteError where a redirect leads from the web to a machine of a private network."""
    scheme = urlsplit(target).scheme
    if scheme not in ("http", "https") or (_private(target) and not _private(address)):
        what = f"{shown(address)} leads to {shown(target)}"
        raise RemoteError(what, "that is no place on the web", "name the address itself, if it is meant")


def _private(address: str) -> bool:
    """Whether a host is this machine, or one of a private network."""
    try:
        found = {entry[4][0] for entry in socket.getaddrinfo(urlsplit(address).hostname, None)}
    except OSError:
        return False
    return any(not ipaddress.ip_address(str(ip).partition("%")[0]).is_global for ip in found)
