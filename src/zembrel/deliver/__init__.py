"""Packs: files built for a device or a viewer, and readers that prove them."""
