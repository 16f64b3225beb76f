"""A server for trials: one island behind every kind of service, with code of its own."""
