"""The demo: a tram depot on a rainy night, drawn by a real OpenGL 3.3 program in a naive way.

Each of its flaws can be switched off (`--better`), so that true before-and-after pairs exist. It is a
target like any other: nothing in it knows that it may be captured. `data/` holds two captured frames.
"""
