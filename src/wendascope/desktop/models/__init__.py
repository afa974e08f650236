"""What the window shows, without Qt: documents, the tree of a frame, the strip, a capture session, and what views ask
of the window. Widgets stand beside this folder and observe it.
"""
