"""The survey as stages, and what is tried before it is claimed."""
