"""Conclusions from a frame and what was measured on it: NumPy only, no GPU, no Qt.

May import `frame`, `registry` and `errors`.
"""
