"""Pictures: a raster with its ramp or legend, a scale bar, its CRS and extent."""
