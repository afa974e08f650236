"""Recorded calls: how they are packed, kept and ordered, and what they come to."""
