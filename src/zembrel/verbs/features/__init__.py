"""Verbs on features: what `convert`, `clip`, `reproject`, `mosaic` and `describe` do for them."""
