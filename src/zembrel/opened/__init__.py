"""What Python users hold: open rasters, features and points, and the verbs as functions."""
