"""Numba kernels on points: contiguous arrays and plain numbers in, arrays out."""
