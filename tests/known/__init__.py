"""Small programs whose right answers were written down before they were run, each in its docstring.

One file holds one family. `_target.py` draws them under the tap, one after the other; `test_known.py` holds what
Wendascope says of each against its answer.
"""
