"""What is looked at while a frame is run: fragments, positions, targets, objects, known work."""
