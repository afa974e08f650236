"""What is tried against what: remedies lowered to calls, batches, proofs, experiments, comparisons of two frames.

May import everything but the desktop, the reports and the command line.
"""
