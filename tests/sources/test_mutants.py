"""Documents of services that were tampered with end in a result or an error of ours."""

from __future__ import annotations

import contextlib
import json
import random
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from sources.island import BOUNDS, Site
from zembrel.errors import ZembrelError
from zembrel.measure import parse_cell
from zembrel.sources import gazetteer
from zembrel.sources.blocks import blocks_in
from zembrel.sources.opening import open_source
from zembrel.sources.service import Request, Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import Wish

ODD = (None, [], {}, "", "x", -1, 10**30, float("nan"), True, [[]], {"a": 1}, "-24.0 46.0", "../../x", "NaN")
WORDS = (
    "",
    "-1",
    "0",
    "1e999",
    "nan",
    "EPSG:4326",
    "EPSG:99999",
    "urn:x",
    "1 2 3",
    "-1 -1",
    "../../etc",
    "\u2028",
)
KINDS = {
    "wms": ("/wms", "ortho"), "wmts": ("/wmts", "ortho"), "wcs": ("/wcs", "heights"),
    "tiles": ("/ogc", "ortho"), "coverages": ("/ogc", "ortho"),
    "stac": ("/stac", None),
}  # fmt: skip


def other_json(data: bytes, chance: random.Random) -> bytes:
    """A document in which some values are others, or gone."""

    def go(value: Any) -> Any:
        if chance.random() < 0.06:
            return chance.choice(ODD)
        if isinstance(value, dict):
            return {key: go(inner) for key, inner in value.items() if chance.random() > 0.03}
        return [go(inner) for inner in value] if isinstance(value, list) else value

    made = go(json.loads(data))
    return json.dumps(made if isinstance(made, dict) else {}).encode()


def other_xml(data: bytes, chance: random.Random) -> bytes:
    """A document in which some texts and attributes are others, and some elements gone."""
    text = data.decode()
    text = re.sub(
        r">([^<>]+)<", lambda m: f">{chance.choice(WORDS) if chance.random() < 0.1 else m[1]}<", text
    )
    text = re.sub(
        r'="([^"]*)"',
        lambda m: f'="{chance.choice(WORDS) if chance.random() < 0.05 and "://" not in m[1] else m[1]}"',
        text,
    )
    leaves = list(re.finditer(r"<([\w:]+)[^<>]*>[^<>]*</\1>", text))
    for found in reversed(chance.sample(leaves, min(len(leaves), chance.randrange(3)))):
        text = text[: found.start()] + text[found.end() :]
    return text.encode()


@pytest.fixture
def tampered(monkeypatch: pytest.MonkeyPatch) -> Callable[[int], None]:
    plain = Service.text

    def tamper(seed: int) -> None:
        chance = random.Random(seed)

        def text(self: Service, piece: Request, check: Any) -> bytes:
            data = plain(self, piece, lambda *_: None)
            made = other_xml(data, chance) if data.lstrip().startswith(b"<") else other_json(data, chance)
            try:
                check(made, "")
            except ValueError:
                return data
            return made

        monkeypatch.setattr(Service, "text", text)

    return tamper


@pytest.mark.parametrize("kind", KINDS)
def test_tampered_documents_are_refused_or_read(
    island: Site, tampered: Callable[[int], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str
) -> None:
    monkeypatch.setenv("ZEMBREL_CACHE", str(tmp_path / "kept"))
    path, layer = KINDS[kind]
    said = {"kind": kind, "address": island.address + path, "private": True, "tries": 1, "holds": "colours"}
    source = SourceFile(tmp_path / "s.source.toml", said | ({"layer": layer} if layer else {}))
    wish = Wish(BOUNDS, cell=parse_cell("0.001"))
    good = 0
    for seed in range(120):
        tampered(seed)
        try:
            found = open_source(source, wish)
            good += bool(found.layers)
        except ZembrelError:
            pass
    assert good or kind == "stac"


def test_tampered_places_and_indexes(
    island: Site, tampered: Callable[[int], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ZEMBREL_CACHE", str(tmp_path / "kept"))
    said = {"kind": "gazetteer", "address": island.address + "/places?q={name}", "private": True, "tries": 1}
    source = SourceFile(tmp_path / "s.source.toml", said)
    index = SourceFile(tmp_path / "b.source.toml", {"kind": "blocks", "address": str(tmp_path / "i.geojson")})
    real = json.dumps({"type": "FeatureCollection", "features": [
        {"type": "Feature", "geometry": {"type": "Point", "coordinates": [-24, 46]}, "properties": {"url": "a.laz", "bytes": 9}}]})  # fmt: skip
    for seed in range(150):
        tampered(seed)
        (tmp_path / "i.geojson").write_bytes(other_json(real.encode(), random.Random(seed)))
        for ask in (lambda: gazetteer.find_place(source, Service.of(source), "High Marrow"),
                    lambda: blocks_in(index, Service.of(index), Wish(BOUNDS))):  # fmt: skip
            with contextlib.suppress(ZembrelError):
                ask()
