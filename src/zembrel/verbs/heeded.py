"""Which of the shared options each verb has no use for. Nobody offers or takes them there."""

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
_SHAPES = (*PICKED, *MENDED, *CLOUDS)
_MADE = (*LAYERED, *FORMAT, "ceiling", "keep_going", "keep_empty")
_RASTERS = (*_SHAPES, *PHOTOS, *LAYERED)
_LOOK = (*_RASTERS, *FORMAT, "provenance", "out", "dry_run", "ceiling", "keep_going", "keep_empty")
_SHAPED = (*_SHAPES, *PHOTOS, *FORMAT, "ceiling", "keep_going")
_CLOUD = (*MENDED, *PHOTOS, *LAYERED, *RAW, *RETYPE, "nodata", "flatten", "stored", "compress", "world_file",
          "keep_empty")  # fmt: skip
_PACK = (*CLOUDS, *PHOTOS, *BETWEEN, *LAYERED, *FORMAT, "longest", "keep_going", "keep_empty")
_RASTER_PACK = (*_PACK, *PICKED, *MENDED)
_ALONE = (*_MADE, "provenance", "dry_run", "memory", *WORK)
UNHEEDED: dict[str, tuple[str, ...]] = {
    "describe": (*PHOTOS, *_MADE, "provenance", "out", "dry_run"),
    "index": (*PICKED, *MENDED, *PHOTOS, *FORMAT, *RAW, "classes", "returns", "ceiling", "memory", *WORK,
              "keep_going", "keep_empty"),
    "label": (*_RASTERS, *_MADE, "provenance", *RAW, *CRSS),
    "formats": (),
    "frame": (*_RASTERS, *_MADE, "provenance", *RAW, *BETWEEN, "mask", "memory", *WORK),
    "crs": (),
    "coords": _ALONE,
    "source": (*_ALONE, "out"),
    "fetch": (*MENDED, *LAYERED, *CRSS, "inputs_from", "layer", "from_nodata", "from_layout", "trust_inputs",
              "keep_going"),
    "pin": (*_RASTERS, *CRSS, "longest", *(name for name in AREA if name != "places"),
            *(name for name in BETWEEN if name != "average_codes"), "keep_going"),
    "mosaic": ("keep_going",),
    "stack": (*_RASTERS, "keep_going"),
    "clip": ("mask",),
    "tile": (*MENDED, *PHOTOS, *LAYERED, "mask", "keep_going"),
    "mask": _RASTERS,
    "fill": _RASTERS,
    "resample": (*_SHAPES, *LAYERED),
    "reproject": (),
    "convert": PHOTOS,
    "thin": _CLOUD,
    "ground": _CLOUD,
    "grid": (*MENDED, *PHOTOS, *LAYERED, *RAW, "fields", "longest", "z_unit", "from_z_unit", "average_codes",
             "keep_going"),
    "terrain": _RASTERS,
    "derive": _RASTERS,
    "classify": _RASTERS,
    "paint": (*_RASTERS, "bands", *RETYPE),
    "rasterize": (*CLOUDS, *PHOTOS, *BETWEEN, *LAYERED, *AREA, "inputs_from", "from_nodata", "from_layout",
                  "bands", "keep_going"),
    "polygonize": _SHAPED,
    "contour": _SHAPED,
    "trace": _SHAPED,
    "centroids": _SHAPED,
    "sample": (*CLOUDS, *PHOTOS, *FORMAT, "ceiling", "keep_going"),
    "tally": (*CLOUDS, *PHOTOS, *BETWEEN, *AREA, "keep_going"),
    "compare": _LOOK,
    "profile": _LOOK,
    "check": (*_SHAPES, *PHOTOS, *FORMAT, *RAW, *CRSS, "provenance", "dry_run", "ceiling", "keep_going",
              "keep_empty"),
    "draw": (*PHOTOS, *BETWEEN, *_MADE, *PLACED, "classes", "mask", "dry_run"),
    "deliver pyramid": (*(name for name in _RASTER_PACK if name != "flatten"), *PLACED, "crs"),
    "deliver globe": (*_PACK, *PLACED, "crs"),
    "deliver chart": (*_RASTER_PACK, *PLACED, "crs"),
    "deliver heightmap": (*_RASTER_PACK, *PLACED, "mask"),
    "deliver hgt": (*_RASTER_PACK, "onto", "crs"),
    "deliver chips": _RASTER_PACK,
    "deliver film": _RASTER_PACK,
    "deliver carry": (*_RASTERS, *_MADE, "provenance", "out", *RAW, *CRSS, "inputs_from", "trust_inputs",
                      "offline", "memory", *WORK),
    "receipt": _ALONE,
    "run": tuple(name for name in (*_MADE, "provenance", "out") if name != "keep_going"),
    "standin device": (*_ALONE, "out"),
    "standin serve": (*_ALONE, "out"),
    "shell": _ALONE,
    "warm": (*_MADE, "provenance", "out", "replace", "dry_run", "memory", "cluster"),
    "demo": _ALONE,
}  # fmt: skip
