"""Usage: readboth.py ONE OTHER. Reads every block of two rasters, and does nothing with them."""

from __future__ import annotations

import sys
from pathlib import Path

from zembrel.engine.limits import Limits
from zembrel.engine.run import observe
from zembrel.formats import open_raster
from zembrel.passes.survey import blocks_of
from zembrel.raster.views.bands import stack

both = stack(tuple(open_raster(Path(name)) for name in sys.argv[1:3]))
observe(both, blocks_of(both), [], Limits())
