"""The captured frame as everything but its API sees it: calls, steps, passes, what they use, and the `.wend` file.

Pure data and NumPy: runs without a GPU. May import `errors` and `files` only; an API's own frames stand elsewhere.
"""
