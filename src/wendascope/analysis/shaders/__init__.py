"""What shaders cost, and where their values come from."""
