"""Who bounds a frame, by how much, and what its answers are parts of."""
