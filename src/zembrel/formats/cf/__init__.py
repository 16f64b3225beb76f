"""Grids in the Climate and Forecast conventions, whatever container holds their variables.

Source: "NetCDF Climate and Forecast (CF) Metadata Conventions", version 1.11: coordinates (chapter 4), grid
mappings (5.6 and appendix F), cell boundaries (7.1), packed data (8.1) and flags (3.5). What CF has no words
for is in attributes of our own, which others pass over: `zembrel_frame` holds the frame to the last bit.
"""
