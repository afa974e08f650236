"""Runs that return numbers and maps: times, counters, pictures. Each function is a job of the replay process.

May import `replay`, `frame`, `registry` and `errors`; knows nothing of Qt, files or reports.
"""
