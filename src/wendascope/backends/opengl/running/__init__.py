"""A frame rebuilt in this process: edits of it, runs, and what they leave behind."""
