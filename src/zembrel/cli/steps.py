"""The verbs, in the order of the work: what `--help` lists, and where each is defined.

Nothing heavy may be imported here: this is all that `zembrel --help` needs.
"""

from __future__ import annotations

from typing import NamedTuple

LOOK, WHERE, BRING, CHANGE, DERIVE, SHAPES, CHECK, DELIVER, AGAIN, START = (
    "Look at what came in",
    "Say where and how fine",
    "Bring the pieces together",
    "Change the grid",
    "Derive",
    "Go from cells to shapes and back",
    "Check and show",
    "Deliver",
    "Do it again",
    "Start here",
)


class Row(NamedTuple):
    """A verb: the step it belongs to, one line, and the module that defines it."""

    step: str
    line: str
    module: str


VERBS: dict[str, Row] = {
    "describe": Row(LOOK, "what a layer is; several side by side", "zembrel.cli.look"),
    "index": Row(LOOK, "extents of many files as features", "zembrel.cli.look"),
    "label": Row(LOOK, "mend what a file says of itself, not its cells", "zembrel.cli.look"),
    "formats": Row(LOOK, "what can be read and written", "zembrel.cli.look"),
    "frame": Row(WHERE, "make, show and save a frame", "zembrel.cli.where"),
    "crs": Row(WHERE, "find, show and fit coordinate reference systems", "zembrel.cli.place"),
    "coords": Row(WHERE, "coordinates of one CRS into another", "zembrel.cli.place"),
    "source": Row(BRING, "remote services by name, and what is kept of them", "zembrel.cli.sources"),
    "fetch": Row(BRING, "what an area needs of a source", "zembrel.cli.sources"),
    "pin": Row(BRING, "place a scanned map by tie points", "zembrel.cli.bring"),
    "mosaic": Row(BRING, "many layers into one", "zembrel.cli.bring"),
    "stack": Row(BRING, "several layers as bands of one", "zembrel.cli.bring"),
    "clip": Row(CHANGE, "keep an area", "zembrel.cli.change"),
    "tile": Row(CHANGE, "cut into sheets", "zembrel.cli.change"),
    "mask": Row(CHANGE, "blank by another layer or a condition", "zembrel.cli.change"),
    "fill": Row(CHANGE, "close voids within a reach", "zembrel.cli.change"),
    "resample": Row(CHANGE, "a new cell size", "zembrel.cli.change"),
    "reproject": Row(CHANGE, "a new CRS", "zembrel.cli.change"),
    "convert": Row(CHANGE, "another format or cell type", "zembrel.cli.change"),
    "thin": Row(CHANGE, "fewer points", "zembrel.cli.points"),
    "ground": Row(CHANGE, "find the points of the ground", "zembrel.cli.points"),
    "grid": Row(CHANGE, "points to the cells of a frame", "zembrel.cli.points"),
    "terrain": Row(DERIVE, "slope, aspect, light and more of heights", "zembrel.cli.derive"),
    "derive": Row(DERIVE, "plain algebra over named layers and bands", "zembrel.cli.derive"),
    "classify": Row(DERIVE, "values, codes or conditions to classes", "zembrel.cli.derive"),
    "paint": Row(DERIVE, "cells to georeferenced colours", "zembrel.cli.show"),
    "rasterize": Row(SHAPES, "features onto the cells of a frame", "zembrel.cli.shapes"),
    "polygonize": Row(SHAPES, "regions of equal cells to polygons", "zembrel.cli.shapes"),
    "contour": Row(SHAPES, "lines of equal value, or areas between them", "zembrel.cli.shapes"),
    "trace": Row(SHAPES, "rasters of lines to polylines", "zembrel.cli.shapes"),
    "centroids": Row(SHAPES, "cells to points", "zembrel.cli.shapes"),
    "sample": Row(SHAPES, "cell values at points", "zembrel.cli.shapes"),
    "tally": Row(SHAPES, "features or cells summed up per zone or cell", "zembrel.cli.shapes"),
    "compare": Row(CHECK, "how far two rasters differ", "zembrel.cli.judge"),
    "profile": Row(CHECK, "values along a line", "zembrel.cli.judge"),
    "check": Row(CHECK, "does a file obey its format's rules?", "zembrel.cli.judge"),
    "draw": Row(CHECK, "a picture with ramp or legend and a scale bar", "zembrel.cli.show"),
    "deliver pyramid": Row(DELIVER, "tiles of many zooms, in a pack", "zembrel.cli.deliver.pyramid"),
    "deliver globe": Row(DELIVER, "pictures and features for virtual globes", "zembrel.cli.deliver.globe"),
    "deliver chart": Row(DELIVER, "raster nautical charts, and their catalogue", "zembrel.cli.deliver.chart"),
    "deliver heightmap": Row(DELIVER, "terrain for simulation engines", "zembrel.cli.deliver.elevation"),
    "deliver hgt": Row(DELIVER, "heights as cells of one degree", "zembrel.cli.deliver.elevation"),
    "deliver chips": Row(DELIVER, "squares with labels, for training", "zembrel.cli.deliver.chips"),
    "deliver film": Row(DELIVER, "dated images one after the other", "zembrel.cli.deliver.film"),
    "deliver carry": Row(DELIVER, "packs that exist, to a device", "zembrel.cli.deliver.devices"),
    "standin device": Row(DELIVER, "would a device accept a pack?", "zembrel.cli.standin"),
    "run": Row(AGAIN, "the steps of a job file, those alone that are due", "zembrel.cli.jobs"),
    "receipt": Row(AGAIN, "the record of a run as a page", "zembrel.cli.jobs"),
    "standin serve": Row(
        START, "a server with the island behind every kind of service", "zembrel.cli.standin"
    ),
    "warm": Row(START, "compile all kernels once", "zembrel.cli.start"),
    "shell": Row(START, "completion for bash, zsh and fish, and manual pages", "zembrel.cli.start"),
    "demo": Row(START, "the Isle of Marrowick: demo data and a worked example", "zembrel.cli.start"),
}
SYNONYMS = {
    "clip": ("crop", "cut", "trim", "extract"),
    "pin": ("georeference", "rectify", "rubbersheet"),
    "mask": ("blank", "null", "erase"),
    "fill": ("interpolate", "patch", "close"),
    "check": ("validate", "verify", "lint"),
    "trace": ("skeleton", "centerline", "centreline"),
    "sample": ("lookup", "query", "pick"),
    "tally": ("summarize", "aggregate", "density"),
    "compare": ("diff", "difference", "subtract"),
    "contour": ("isolines", "isobands"),
    "rasterize": ("burn", "gridify"),
    "polygonize": ("vectorize", "outline"),
    "paint": ("colour", "color", "colorize", "shade"),
    "tile": ("split", "chop", "sheets"),
    "fetch": ("download", "get", "pull"),
    "source": ("service", "services", "server"),
    "mosaic": ("merge", "join", "stitch", "combine"),
    "describe": ("info", "inspect", "show", "stats"),
    "resample": ("rescale", "downsample", "upsample", "resize"),
    "reproject": ("transform", "project"),
    "convert": ("export", "save", "change"),
    "draw": ("plot", "view", "render", "preview", "map"),
    "derive": ("calculate", "calc", "formula", "algebra", "compute"),
    "classify": ("reclassify", "reclass", "recode", "threshold", "slice"),
    "profile": ("crosssection", "section", "transect"),
    "frame": ("extent", "lattice"),
    "index": ("footprints", "catalogue"),
    "label": ("assign", "edit", "tag"),
    "formats": ("drivers", "types"),
    "crs": ("srs", "epsg", "projection", "projections"),
    "coords": ("coordinates",),
    "thin": ("decimate", "subsample", "sparsify"),
    "ground": ("bareearth", "terrainpoints"),
    "deliver globe": ("globe", "kmz"),
    "deliver chart": ("chart", "kap"),
    "deliver heightmap": ("heightfield", "rawterrain"),
    "deliver chips": ("chips", "patches"),
    "deliver film": ("film", "animate", "video", "timelapse"),
    "deliver hgt": ("hgt", "degreecells"),
    "deliver pyramid": ("pyramid", "tilepack"),
    "run": ("job", "workflow", "pipeline", "batch"),
    "grid": ("surface", "interpolatepoints", "pointstoraster"),
}  # fmt: skip


# words that are typed as verbs, and the option that makes it
OPTIONS_OF = {
    word: f"terrain INPUT --of {word} --out PATH"
    for word in ("slope", "aspect", "hillshade", "roughness", "ruggedness", "curvature", "position")
} | {"shadows": "terrain INPUT --of hillshade --cast --out PATH"}


def hint(word: str) -> str | None:
    """What is meant by a synonym of the trade: the verb, or with it the option that makes that."""
    known = next((verb for verb, words in SYNONYMS.items() if word.lower() in words), None)
    return known or OPTIONS_OF.get(word.lower())
