"""Secrets of this process, and texts without them: keys of the environment, and logins in addresses.

Whatever a person, a file or a log may see passes `redact`; whoever takes a secret in hand names it to `keep`.
"""

from __future__ import annotations

import base64
import html
import json
import re
import threading
from collections.abc import Iterator
from urllib.parse import quote, quote_plus, unquote

_SHORT = 4  # characters below which a secret is only taken for one where it stands alone
_held: list[dict[str, str]] = [{}]  # what is shown for each form of a secret, the longest first
_turn = threading.Lock()


def keep(secret: str, shown: str) -> None:
    """Show `shown` wherever a text holds `secret`, in any form in which servers and libraries write it."""
    with _turn:  # readers have the old table or the new one, and each holds all that was kept before
        if not secret or _held[0].get(secret) == shown:
            return
        forms = _held[0] | dict.fromkeys(_forms(secret), shown)
        _held[0] = dict(sorted(forms.items(), key=lambda item: -len(item[0])))


def keep_login(name: str, password: str) -> None:
    """Keep the login of an address: the password, and both as the header that they become."""
    pair = f"{name}:{password}"
    keep(base64.b64encode(pair.encode("utf-8", "surrogateescape")).decode(), "...")
    keep(pair, "...")
    keep(password, "...")


def redact(text: str) -> str:
    """Return `text` without the secrets of this process."""
    for form, shown in _held[0].items():
        if form in text:
            if len(form) < _SHORT:
                text = re.sub(rf"(?<!\w){re.escape(form)}(?!\w)", lambda _, shown=shown: shown, text)  # type: ignore[misc]
            else:
                text = text.replace(form, shown)
    return text


def _forms(secret: str) -> Iterator[str]:
    yield secret
    plain = unquote(secret)
    for value in {secret, plain}:
        raw = value.encode("utf-8", "surrogateescape")
        yield from (value, quote(raw), quote(raw, safe=""), quote_plus(raw), html.escape(value))
        yield from (repr(value)[1:-1], repr(raw)[2:-1], json.dumps(value)[1:-1])
        yield base64.b64encode(raw).decode()
