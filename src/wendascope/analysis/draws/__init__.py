"""Draws of a frame: what they share, what keeps them apart, and what could be drawn together."""
