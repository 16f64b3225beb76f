"""What a service says that it offers."""

from __future__ import annotations

import importlib
from collections.abc import Sequence
from typing import Any

from zembrel.grid.pane import Pane
from zembrel.sources.documents import holding_together
from zembrel.sources.opening import open_source
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.sourcekinds import KINDS
from zembrel.sources.wish import Wish

Offer = tuple[str, str, str]  # name, title, and more about it


def offered(source: SourceFile, service: Service) -> Sequence[Offer]:
    """What the service offers, asked now. Raises RemoteError where it does not answer as it should."""
    kind = KINDS[source.kind]
    if kind.offers:
        module: Any = importlib.import_module(f"zembrel.sources.{kind.module}")
        with holding_together(source.name):
            found: Sequence[Offer] = module.offers(source, service)
        return found
    raster = open_source(source, Wish()).layers[0].raster
    if not isinstance(raster, RemoteBlocks):
        return [
            (
                source.name,
                str(source.get("title", "")),
                f"{raster.frame.columns:,} x {raster.frame.rows:,} cells",
            )
        ]
    level = [raster, *raster.coarser_ones][-1]
    rows, columns = level.frame.rows // 2, level.frame.columns // 2
    _, piece = next(level.blocks(Pane(rows, columns, rows + 1, columns + 1)))
    kept = service.piece(piece, level.holding.check)
    what = f"{kept.type}, {len(kept.data):,} bytes" if kept.status == 200 else "nothing there"
    return [(source.name, str(source.get("title", "")), f"{piece.told}: {what}")]
