"""Passes over whole rasters, before anything is written: surveys, shifts, sieving, checks of cells."""
