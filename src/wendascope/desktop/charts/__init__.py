"""What is painted by hand: strips, bars, areas and curves."""
