"""Runs that return numbers and maps: times, counters, pictures. Each entry is a job of the replay process.

May import `replay`, `opengl`, `analysis` (whose records it fills) and what they import; knows nothing of Qt or reports.
"""
