"""Clouds onto the cells of a frame: statistics of cells, and surfaces between points."""
