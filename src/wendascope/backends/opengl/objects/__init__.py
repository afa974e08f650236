"""Objects of a context, their formats and their contents."""
