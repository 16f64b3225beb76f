"""Numba kernels: contiguous arrays and plain numbers in, arrays out; no objects, no GIL.

Shapes: cells (bands, rows, columns); valid (0, 0, 0) for "all", (1, rows, columns) for all bands
alike or (bands, rows, columns); uint8. Positions count in cells from the corner of the first one,
so that the middle of cell i is i + 0.5.
"""
