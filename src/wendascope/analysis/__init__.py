"""Conclusions from a frame and what was measured on it: NumPy only, no GPU, no API, no Qt.

May import `frame`, `glsl` and `errors`.
"""
