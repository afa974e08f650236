"""Rules and what they find, recommendations, and what is left of a frame."""
