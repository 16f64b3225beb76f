"""standin serve: the island behind every kind of service."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from zembrel.demo import island as shape
from zembrel.demo.scenes import HOME
from zembrel.errors import InputError, ResourceError, UsageError
from zembrel.features.files import read_features
from zembrel.formats import open_raster
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Affine, Frame
from zembrel.inputs.options import Output
from zembrel.optiontext import OptionText
from zembrel.points.files import holds_points, open_points
from zembrel.progress import tell
from zembrel.results.receipt import Receipt
from zembrel.standins.services import serving
from zembrel.standins.services.app import Island
from zembrel.standins.services.catalogues import ShelfItem
from zembrel.standins.services.faults import Faults
from zembrel.standins.services.scene import Seen

_DAY = re.compile(r"(\d{4})(\d{2})?(\d{2})?")
_CELL = 2.0
_PATHS = {
    "xyz, photo": "/xyz/{version}/ortho/{z}/{x}/{y}.jpg",
    "xyz, heights": "/xyz/{version}/heights/{z}/{x}/{y}.png",
    "xyz, codes": "/xyz/{version}/cover/{z}/{x}/{y}.png", "tms": "/tms/{version}/ortho/{z}/{x}/{y}.png",
    "wmts": "/wmts", "wms": "/wms", "wcs": "/wcs", "tiles, coverages": "/ogc", "stac": "/stac",
    "stac, static": "/stac/catalog.json", "blocks": "/blocks/index.geojson", "gazetteer": "/places?q={name}",
}  # fmt: skip


@dataclass(frozen=True)
class Serving:
    """Where the server is, what goes wrong there, and how long signed addresses hold."""

    host: Annotated[str, OptionText("Host name or address to listen on.", "NAME")] = "127.0.0.1"
    port: Annotated[int, OptionText("Port to listen on.", "N")] = 8046
    faults: Annotated[
        tuple[str, ...],
        OptionText(
            "Simulate faults in a share of responses: fail=0.2, slow=0.1 (seconds=2), garbage, "
            "cut or packed; dead=PATH; version=913. Repeatable.",
            "KEY=VALUE",
            flag="--fault",
        ),
    ] = ()
    signed: Annotated[
        float, OptionText("Lifetime of image addresses, in seconds. 0: no limit.", "SECONDS")
    ] = 0.0


def serve(output: Output, folder: str | None = None, how: Serving = Serving()) -> Receipt:
    """Serve until interrupted. Raises UsageError, InputError for a folder without data, ResourceError."""
    faults = Faults()
    said = dict(word.partition("=")[::2] for word in how.faults)
    try:
        known = faults.change(said)
    except ValueError as exc:
        raise UsageError(
            f"--fault {' '.join(how.faults)}", str(exc), "write for example --fault fail=0.2"
        ) from exc
    if unknown := set(said) - set(known):
        what = f"--fault {', '.join(sorted(unknown))}"
        raise UsageError(what, f"known are {', '.join(known)}", "write for example --fault fail=0.2")
    island = replace(island_of(Path(folder or "demo")), signed=how.signed, faults=faults)
    address = f"http://{how.host}:{how.port}"
    for kind, path in _PATHS.items():
        tell(f"{kind:18} {address}{path}")
    try:
        serving.run(island, how.host, how.port)
    except OSError as exc:
        what = f"{address} cannot be served"
        raise ResourceError(what, exc.strerror or str(exc), "choose another --port") from exc
    return Receipt("standin serve")


def island_of(folder: Path) -> Island:
    """The island of the demo data in a folder. Raises InputError if there is none."""
    if not (folder / "ortho").is_dir():
        what = f"{folder} holds no demo data"
        raise InputError(what, "the server gives its files away", "make it: zembrel demo --out demo/")
    east, north = shape.MIDDLE
    across, along = shape.REACH
    home = (east - across, north - along, east + across, north + along)
    frame = Frame(
        by_code(HOME), Affine(home[0], home[3], _CELL, -_CELL),
        round(2 * across / _CELL), round(2 * along / _CELL),
    )  # fmt: skip
    images = [_image(path) for path in sorted([*folder.glob("ortho/*.tif"), *folder.glob("series/*.tif")])]
    blocks = [_block(path) for path in sorted(folder.glob("lidar/*.laz")) if holds_points(path)]
    return Island(scene, carried_bounds(frame, by_code(4326)), home, images, blocks, _places(folder))


def scene(lon: Any, lat: Any) -> Seen:
    """The demo island at places in degrees; nothing but sea around it."""
    x, y = operation(by_code(4326), by_code(HOME))(np.asarray(lon, float), np.asarray(lat, float))
    x, y = np.nan_to_num(x, nan=1e7) - shape.MIDDLE[0], np.nan_to_num(y, nan=1e7) - shape.MIDDLE[1]
    far = np.hypot(x, y) > 20_000
    x, y = np.where(far, 20_000.0, x), np.where(far, 0.0, y)
    colours = np.floor(shape.colours(x, y) + 0.5)
    return Seen(colours, np.maximum(shape.heights(x, y), 0.0), shape.classes(x, y))


def _image(path: Path) -> ShelfItem:
    frame = open_raster(path).frame
    found = _DAY.search(path.stem)
    year, month, day = (found[1], found[2] or "07", found[3] or "01") if found else ("2024", "06", "01")
    cloud = round(50 * abs(math.sin(sum(path.stem.encode()))), 1)
    return ShelfItem(
        path, path.parent.name, carried_bounds(frame, by_code(4326)), f"{year}-{month}-{day}", cloud
    )


def _block(path: Path) -> ShelfItem:
    cloud = open_points(path).cloud
    west, south, _, east, north, _ = cloud.bounds or (0.0,) * 6
    frame = Frame(cloud.crs, Affine(west, north, max(east - west, 1.0), -max(north - south, 1.0)), 1, 1)
    return ShelfItem(path, "lidar", carried_bounds(frame, by_code(4326)))


def _places(folder: Path) -> list[tuple[str, float, float]]:
    path = folder / "places.geojson"
    if not path.is_file():
        return []
    table = read_features(path).to(by_code(4326))
    return [
        (str(row.get("name", "")), shown.x, shown.y)
        for row, shape_ in zip(table.rows(), table.geometries, strict=True)
        for shown in (shape_.centroid,)
    ]
