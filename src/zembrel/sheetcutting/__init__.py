"""Sheets: how rasters and clouds are cut, named, sized, and gone on with."""
