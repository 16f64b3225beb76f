"""index: the extents of many files as features."""

from __future__ import annotations

import numpy as np

from zembrel.engine.commit import Staging
from zembrel.errors import UsageError
from zembrel.geodesy.crs import label
from zembrel.raster.model import shared_type
from zembrel.verbs.inputs import open_layers
from zembrel.verbs.options import Inputs, Output
from zembrel.verbs.receipt import Receipt, named, show_cell

_POINTS = 17  # on each side of an outline, so that it follows its edges in degrees


def index(inputs: Inputs, output: Output) -> Receipt:
    """One polygon for each input, in longitude and latitude, with what the file is.

    Raises InputError for an input without a CRS, UsageError unless the result is GeoJSON.
    """
    import shapely

    from zembrel.features.geojson import ENDINGS, write_geojson
    from zembrel.features.table import FeatureTable
    from zembrel.geodesy.registry import by_code
    from zembrel.verbs.inputs import check_placed

    out = output.path
    if out.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"{out.name} is no GeoJSON name", "an index is written as GeoJSON", "end it in .geojson"
        )
    layers = open_layers(inputs)
    check_placed(layers)
    geometries, rows = [], []
    for layer in layers:
        frame = layer.raster.frame
        t = np.linspace(0, 1, _POINTS)
        cols = np.concatenate([t, np.ones(_POINTS), t[::-1], np.zeros(_POINTS)]) * frame.columns
        rows_ = np.concatenate([np.zeros(_POINTS), t, np.ones(_POINTS), t[::-1]]) * frame.rows
        x, y = frame.corners.at(cols, rows_)
        outline = shapely.Polygon(np.column_stack([np.asarray(x), np.asarray(y)]))
        if frame.crs is None:
            raise _homeless(str(layer.path))
        geometries.append(FeatureTable((outline,), ({},), frame.crs).to(by_code(4326)).geometries[0])
        rows.append(
            {
                "path": str(layer.path),
                "crs": label(frame.crs),
                "cell": show_cell(frame),
                "columns": frame.columns,
                "rows": frame.rows,
                "bands": len(layer.raster.bands),
                "type": shared_type(layer.raster.bands).name,
            }
        )
    table = FeatureTable(tuple(geometries), tuple(rows), by_code(4326))
    paths = [layer.path for layer in layers]
    if not output.dry_run:
        with Staging(output.replace) as staging:
            staging.write_text(out, write_geojson(table))
            staging.publish()
    facts = {"inputs": [str(path) for path in paths], "out": str(out), "features": len(rows)}
    wrote = (str(out), f"{len(rows)} outlines", "EPSG:4326 WGS 84")
    word = "plan" if output.dry_run else "wrote"
    return Receipt("index", f"{named(paths)} -> {out}", ((word, wrote),), facts)


def _homeless(path: str) -> UsageError:
    return UsageError(
        f"{path} has no coordinate reference system", "its outline has no place", "add --from-crs CRS"
    )
