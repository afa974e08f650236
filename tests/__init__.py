"""Tests, and what tools and benchmarks share with them."""

SECOND_DRIVER = {"MESA_LOADER_DRIVER_OVERRIDE": "zink", "LIBGL_ALWAYS_SOFTWARE": "1"}
"""The environment in which programs and replays find another driver: OpenGL over Vulkan."""
