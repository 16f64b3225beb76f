"""The worked example of the demo: the commands, printed and run one after the other."""

from __future__ import annotations

import shlex
import subprocess
import sys
from pathlib import Path
from typing import Annotated

from zembrel.errors import CheckError
from zembrel.inputs.options import Output
from zembrel.optiontext import OptionText
from zembrel.results.receipt import Receipt
from zembrel.verbs.demo import demo as demo_data

STEPS = (
    ("Two sheets side by side: they are in different zones.", "describe ortho/m3.tif ortho/m4.tif"),
    (
        "Six sheets of two zones become one, without seams and collars.",
        "mosaic ortho/ --trim-collar --within coast.geojson --out island.tif --replace",
    ),
    (
        "Keep the land alone: native cells, cut at the coast.",
        "clip island.tif --within coast.geojson --out land.tif --replace",
    ),
    ("Bring it to the web map's CRS.", "reproject land.tif --crs EPSG:3857 --out web.tif --replace"),
    (
        "A frame says where and how fine, once, for every layer.",
        "frame --within 'place:Marrow Harbour' --reach 1.5km --crs EPSG:32626 --cell 5m"
        " --out harbour.frame.toml --replace",
    ),
    ("Four elevation sheets of two types, as one.", "mosaic dem/ --out relief.tif --replace"),
    (
        "The same on the frame of the harbour.",
        "mosaic dem/ --onto harbour.frame.toml --out harbour.tif --replace",
    ),
    (
        "A satellite receiver counts heights from the ellipsoid: those of the sea's surface there are added.",
        "reproject relief.tif --from-crs 'EPSG:32626 + EPSG:5773' --crs 'EPSG:32626 + ellipsoidal height'"
        " --height-grid geoid.gtx --out above.tif --replace",
    ),
    ("Class codes are never averaged.", "resample landcover.tif --cell 40m --out cover40.tif --replace"),
    (
        "A scanned sketch map is tied down; one of its points was miscopied, and is named.",
        "pin sketch.png --ties sketch-ties.csv --crs EPSG:32626 --out sketch.tif --replace",
    ),
    (
        "Lines of equal height, every fifth of them flagged.",
        "contour relief.tif --interval 50 --out lines.gpkg --replace",
    ),
    (
        "How high the parcels lie; one was drawn as a bow-tie, and is mended.",
        "tally relief.tif --zones parcels.geojson --repair --stat mean --stat max --out heights.gpkg"
        " --replace",
    ),
    ("Land cover as polygons, exactly,", "polygonize landcover.tif --out cover.gpkg --replace"),
    ("and back,", "rasterize cover.gpkg --field value --onto landcover.tif --out back.tif --replace"),
    ("and nothing is lost on the way.", "compare landcover.tif back.tif --at-least share=1"),
    ("Lidar as it comes: what is in a swath?", "describe lidar/l2.laz"),
    (
        "The ground of a block without classes,",
        "ground lidar/raw.las --from-crs EPSG:32626 --out ground.laz --replace",
    ),
    (
        "and terrain, surface and canopy of four swaths in one pass.",
        "grid 'lidar/l?.laz' --cell 1m --products terrain,surface,canopy --out lidar.tif --replace",
    ),
    (
        "",
        "draw 'lidar/l?.laz' --by class --section 733600,5096700,734000,5097050 --width 4m --out section.png"
        " --replace",
    ),
    (
        "Sheets of 2 km for the field, with their index.",
        "tile island.tif --size 2km --index sheets/sheets.geojson --out sheets/ --replace",
    ),
    ("Pictures, to look at what was made.", "draw island.tif --out island.png --replace"),
    ("", "draw web.tif --out web.png --replace"),
    ("", "draw relief.tif --shade --contours 50 --grid 1arcmin --out relief.png --replace"),
    ("", "draw landcover.tif --out landcover.png --replace"),
    (
        "",
        "draw heights.gpkg tracks.geojson --field mean --classes natural:6 --ramp relief --out heights.png"
        " --replace",
    ),
    ("Is a value where it should be?", "describe relief.tif --at 732550,5098650 --stats"),
    (
        "Tiles for a phone; a stand-in says whether it takes them,",
        "deliver pyramid island.tif --out island.mbtiles --replace",
    ),
    ("", "standin device phone island.mbtiles --figure phone.png --replace"),
    (
        "a file for globes,",
        "deliver globe island.tif tracks.geojson places.geojson --field kind --out island.kmz --replace",
    ),
    ("", "standin device phone island.kmz --figure globe.png --replace"),
    ("a nautical chart,", "deliver chart island.tif --title 'Isle of Marrowick' --out island.kap --replace"),
    ("", "standin device plotter island.kap --figure chart.png --replace"),
    (
        "and a terrain for an engine, with the photo over it.",
        "deliver heightmap relief.tif --overlay island.tif --overlay-size 2048 --out engine/ --replace",
    ),
    ("", "standin device engine engine/ --figure engine.png --replace"),
    (
        "All of this is one job file, too: what is due of it runs, and a second time nothing is.",
        "run island.job.toml --only web --only lines",
    ),
    ("", "run island.job.toml --only web --only lines"),
    ("", "run island.job.toml --dry-run --figure job.png --replace"),
)


def demo(
    output: Output,
    *,
    data_only: Annotated[bool, OptionText("Write the data only; skip the worked example.")] = False,
) -> Receipt:
    """Make the demo data, and run the worked example there. Raises RefusedError, CheckError."""
    receipt = demo_data(output)
    if not data_only:
        run_tour(Path(receipt.facts["out"]))
    return receipt


def run_tour(folder: Path) -> None:
    """Run STEPS in `folder`. Raises CheckError if one fails."""
    for text, command in STEPS:
        print(f"\n# {text}" if text else "", file=sys.stderr)
        print(f"$ zembrel {command}", file=sys.stderr, flush=True)
        done = subprocess.run([sys.executable, "-m", "zembrel", *shlex.split(command)], cwd=folder)
        if done.returncode:
            raise CheckError(
                f"zembrel {command} ended with {done.returncode}",
                "the example did not hold",
                "send us what it said",
            )
    print("", file=sys.stderr)
