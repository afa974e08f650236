"""State of a context: what there is, what it was at each call, and how it is set."""
