"""The window: Qt 6 Widgets, and the only part that imports PySide6.

`model` knows nothing of Qt; everything else observes it. Each file in `pages/` is one page of the
question rail and registers itself.
"""
