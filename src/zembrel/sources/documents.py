"""Documents of services: XML whose names have no namespaces, and JSON. Nothing in them is believed."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any
from xml.etree.ElementTree import Element

from zembrel.errors import RemoteError
from zembrel.sources.service import Service
from zembrel.sources.tilecells import plain_words
from zembrel.web.asking import Request

_MOST = 30_000_000  # bytes of a document
_REPORTS = ("ServiceExceptionReport", "ExceptionReport", "ServiceException")


def xml_at(service: Service, request: Request, root: tuple[str, ...]) -> Element:
    """The XML document of a request, whose root has one of some names, names without their namespaces.

    Raises RemoteError, with what the service says, for anything else.
    """
    data = service.text(request, lambda data, kind: _check_xml(data, kind, root))
    return _parsed(data)


def _check_xml(data: bytes, kind: str, root: tuple[str, ...]) -> None:
    """Raise ValueError for what is not the document."""
    if len(data) > _MOST:
        raise ValueError(f"it has {len(data):,} bytes")
    try:
        name = _parsed(data).tag
    except ValueError as exc:
        raise ValueError(f"{exc}; it is called {kind or 'nothing'}: {plain_words(data)}") from exc
    if name in _REPORTS:
        raise ValueError(f"the service says: {plain_words(data)}")
    if name not in root:
        what = f"it is <{name}>, called {kind or 'nothing'}, and no <{root[0]}>"
        raise ValueError(f"{what}: {plain_words(data)}" if name.lower() == "html" else what)


def _parsed(data: bytes) -> Element:
    """The root. Raises ValueError, also for documents with entities of their own."""
    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root: Element = fromstring(data)
    except ParseError as exc:
        raise ValueError(f"it is no XML: {exc}") from exc
    except DefusedXmlException as exc:
        raise ValueError(f"it defines entities, which is not needed: {type(exc).__name__}") from exc
    for element in root.iter():
        element.tag = element.tag.rpartition("}")[2]
        for name in list(element.attrib):
            element.attrib[name.rpartition("}")[2]] = element.attrib[name]
    return root


def texts(element: Element, path: str) -> Iterator[str]:
    """The texts of the elements at a path, without blanks around them."""
    for found in element.findall(path):
        if found.text and found.text.strip():
            yield found.text.strip()


def text(element: Element, path: str, default: str = "") -> str:
    """The first text at a path."""
    return next(texts(element, path), default)


def numbers(words: str) -> list[float]:
    """The numbers in a text. Raises ValueError."""
    return [float(word) for word in words.replace(",", " ").split()]


def json_at(service: Service, request: Request) -> dict[str, Any]:
    """The JSON object of a request. Raises RemoteError for anything else."""
    data = service.text(request, _check_json)
    found: dict[str, Any] = json.loads(data)
    return found


def links(document: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The links of a document that lead somewhere."""
    found = document.get("links", [])
    return (
        [link for link in found if isinstance(link, dict) and "href" in link]
        if isinstance(found, list)
        else []
    )


def _check_json(data: bytes, kind: str) -> None:
    if len(data) > _MOST:
        raise ValueError(f"it has {len(data):,} bytes")
    try:
        found = json.loads(data)
    except (ValueError, RecursionError) as exc:
        raise ValueError(f"it is no JSON, called {kind or 'nothing'}: {plain_words(data)}") from exc
    if not isinstance(found, dict):
        raise ValueError(f"it is a {type(found).__name__}, and no object")


@contextmanager
def holding_together(name: str) -> Iterator[None]:
    """What documents that are read inside lack, or have of another kind, is an error about the service."""
    try:
        yield
    except (ArithmeticError, AttributeError, LookupError, RecursionError, TypeError, ValueError) as exc:
        what = f"{name} gives a document that does not hold together"
        raise RemoteError(
            what, f"{type(exc).__name__}: {exc}", "see zembrel source test, or ask who runs it"
        ) from exc


def misses(told: str, what: str) -> RemoteError:
    """The error for a document that lacks what is needed."""
    return RemoteError(
        f"{told} does not say {what}", "without it nothing can be asked for", "check the address"
    )
