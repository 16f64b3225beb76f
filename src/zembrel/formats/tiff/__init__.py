"""GeoTIFF, in own code: container, georeferencing, reader, and a writer of the cloud-optimized layout."""
