"""Devices for tests and trials: each loads a pack as a real one would, by published rules and with code of
its own, and accepts or rejects it."""
