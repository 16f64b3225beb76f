"""Chips for training: squares of an image with their labels, split by ground, as learners read them."""
