"""What becomes of triangles and fragments."""
