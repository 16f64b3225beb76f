"""What Python users hold: rasters that slice to arrays, features and points that go to Arrow."""
