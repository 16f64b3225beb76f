"""Files at http and https addresses: read in parts where server and format allow it, else fetched whole."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from urllib.parse import unquote, urlsplit

from zembrel.errors import RefusedError
from zembrel.formats.origin import Origin, own_folder
from zembrel.web.addresses import host_of, shown
from zembrel.web.asking import Request
from zembrel.web.remote import Remote


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
    path = name_of(address)
    file = own_folder() / path.name
    source = Remote(Request.of(address), file)
    head = source.begin()
    if source.ranged and by_ranges(head):
        return Origin(path, file, source)
    source.save(file)
    return Origin(path, file)


def name_of(address: str) -> Path:
    """A name for what is at an address: two addresses are two names, and no name holds a key."""
    parts = urlsplit(address)
    held = [part for part in unquote(parts.path).split("/") if part not in ("", ".", "..")] or ["file"]
    query = [hashlib.sha256(parts.query.encode()).hexdigest()[:8]] if parts.query else []
    return Path(host_of(address), *held[:-1], *query, held[-1])
