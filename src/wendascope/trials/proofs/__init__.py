"""What changed frames come to and save, one by one and together."""
