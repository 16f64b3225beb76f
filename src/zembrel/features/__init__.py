"""Features: points, lines and polygons with attributes, their files, and which cells they cover."""
