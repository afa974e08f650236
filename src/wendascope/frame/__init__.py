"""The captured frame: packed calls, steps, passes, objects, state, and the `.wend` file that holds it.

Pure data and NumPy: runs without a GPU. May import `registry` and `errors` only.
"""
