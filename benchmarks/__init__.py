"""Speed bars, measured as ratios in one run. `python -m benchmarks` runs all; names choose some."""
