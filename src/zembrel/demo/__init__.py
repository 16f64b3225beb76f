"""The Isle of Marrowick: an invented island, computed from a seed, for demo, docs and tests."""
