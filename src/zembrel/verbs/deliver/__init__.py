"""Packs for devices and viewers, each by the rules of what takes it."""
