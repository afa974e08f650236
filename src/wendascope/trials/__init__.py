"""What is tried against what: comparisons of two frames, measured in turns.

May import everything but the desktop and the command line.
"""
