"""Inputs found, identified and opened once; phrases parsed to values; target frame and area."""
