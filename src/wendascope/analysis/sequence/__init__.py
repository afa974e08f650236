"""Frames one after the other."""
