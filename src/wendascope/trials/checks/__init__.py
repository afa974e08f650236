"""Frames against a budget: limits on what they draw, keep and take, for whoever merges changes."""
