"""Verbs that build packs for devices and viewers."""
