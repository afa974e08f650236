"""What is told to others: the survey document and its forms (HTML, CSV, trace events).

May import everything but `desktop` and `cli`. Each file in `formats/` is one form and registers itself.
"""
