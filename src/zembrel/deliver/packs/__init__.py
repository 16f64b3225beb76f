"""Tile packs: a store for each kind, and readers of their own."""
