"""Shared options, by the names of their fields, in the groups that verbs have no use for."""

from __future__ import annotations

PICKED = ("condition", "fields")
MENDED = ("repair", "skip_invalid")
CLOUDS = ("classes", "returns", "columns", "salvage", "resolution")
PHOTOS = ("trim_collar", "collar_tolerance")
LAYERED = ("into",)
WORK = ("workers", "cluster")
RETYPE = ("type", "rounded", "clamp")
FORMAT = ("format", *RETYPE, "nodata", "flatten", "stored", "compress", "settings", "world_file")
PLACED = ("onto", "cell", "longest")
AREA = ("within", "within_where", "reach", "mask", "places")
RAW = ("layer", "from_nodata", "from_layout", "bands")
CRSS = ("from_crs", "force_crs")
# between two CRSs
BETWEEN = ("strict_crs", "shift_grid", "height_grid", "epoch", "z_unit", "from_z_unit", "average_codes")
VECTORS = (*PICKED, *MENDED, *CLOUDS)
MADE = (*LAYERED, *FORMAT, "ceiling", "keep_going", "keep_empty")
OTHER_KINDS = (*VECTORS, *PHOTOS, *LAYERED)
FIGURES = (*OTHER_KINDS, *FORMAT, "provenance", "out", "dry_run", "ceiling", "keep_going", "keep_empty")
TO_SHAPES = (*VECTORS, *PHOTOS, *FORMAT, "ceiling", "keep_going")
OF_POINTS = (
    *MENDED,
    *PHOTOS,
    *LAYERED,
    *RAW,
    *RETYPE,
    "nodata",
    "flatten",
    "stored",
    "compress",
    "world_file",
    "keep_empty",
)
PACK = (*CLOUDS, *PHOTOS, *BETWEEN, *LAYERED, *FORMAT, "longest", "keep_going", "keep_empty")
RASTER_PACK = (*PACK, *PICKED, *MENDED)
NO_LAYERS = (*MADE, "provenance", "dry_run", "memory", *WORK)
