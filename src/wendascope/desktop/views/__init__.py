"""What pages and panels are made of, one view a file."""
