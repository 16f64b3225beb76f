"""Text in KML: viewers take descriptions and data for HTML.

Source: OGC 07-147r2, "OGC KML" 2.2: kml:description, kml:BalloonStyle, kml:displayName.
"""

from __future__ import annotations

import html
import re
from xml.sax.saxutils import escape

XML_HOLDS_NOT = re.compile("[^\\t\\n\\r\\x20-\\ud7ff\\ue000-\\ufffd\\U00010000-\\U0010ffff]")  # XML 1.0, 2.2
_ELEMENT = re.compile("<[A-Za-z/!]")


def for_viewers(text: str) -> str:
    """A text as HTML that shows it."""
    return html.escape(text, quote=False)


def of_viewers(markup: str) -> str:
    """The text that HTML shows; elements of HTML stay."""
    return markup if _ELEMENT.search(markup) else html.unescape(markup)


def display_name(name: str) -> str:
    """The element that shows the name of a field as text, where viewers would show it as HTML."""
    shown = for_viewers(XML_HOLDS_NOT.sub("", name))
    return f"<displayName>{escape(shown)}</displayName>" if shown != name else ""
