"""Addresses on the web: how they are told, and where they may lead."""

from __future__ import annotations

import ipaddress
import os
import socket
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit, urlunsplit

from zembrel.errors import RemoteError

_PROXIES = ("http_proxy", "https_proxy", "all_proxy")


def is_address(word: str) -> bool:
    """Whether `word` is an address on the web."""
    return word.lower().startswith(("http://", "https://"))


def shown(address: str) -> str:
    """An address as it may be told: without the credentials and the query, which may hold a key."""
    parts = urlsplit(address)
    host = parts.hostname or ""
    place = f"{host}:{parts.port}" if parts.port else host
    return urlunsplit((parts.scheme, place, parts.path, "..." if parts.query else "", ""))


def host_of(address: str) -> str:
    """The host and port of an address."""
    parts = urlsplit(address)
    return f"{parts.hostname}:{parts.port}" if parts.port else str(parts.hostname)


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
    if not private and _is_private(urlsplit(address).hostname or ""):
        what = f"{host_of(address)} is this machine, or one of a private network"
        raise RemoteError(what, "the source does not say that it may be asked", "add private = true to it")


def check_hop(address: str, target: str) -> None:
    """Raise RemoteError where a redirect leads from the web to a machine of a private network."""
    scheme, to = urlsplit(target).scheme, urlsplit(target).hostname or ""
    leads_in = _is_private(to) and not _is_private(urlsplit(address).hostname or "")
    if scheme not in ("http", "https") or leads_in:
        what = f"{shown(address)} leads to {shown(target)}"
        raise RemoteError(what, "that is no place on the web", "name the address itself, if it is meant")


def check_peer(answer: Any, told: str) -> None:
    """Raise RemoteError where a name led to a private machine after all; a proxy may be one."""
    if any(os.environ.get(name) or os.environ.get(name.upper()) for name in _PROXIES):
        return
    stream = answer.extensions.get("network_stream")
    peer = stream.get_extra_info("server_addr") if stream is not None else None
    if peer and not _is_global(str(peer[0])):
        what = f"{told} was answered by this machine, or one of a private network"
        raise RemoteError(what, "the source does not say that it may be asked", "add private = true to it")


@lru_cache(256)
def _is_private(host: str) -> bool:
    """Whether a host is this machine, or one of a private network."""
    try:
        found = {entry[4][0] for entry in socket.getaddrinfo(host, None)}
    except OSError:
        return False
    return not all(_is_global(str(ip)) for ip in found)


def _is_global(ip: str) -> bool:
    return ipaddress.ip_address(ip.partition("%")[0]).is_global
