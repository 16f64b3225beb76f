"""The raster model: what a grid of cells is, kernels on arrays, and lazy views."""
