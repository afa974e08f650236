"""Remedies as changes of the calls of a frame: what each kind becomes in OpenGL."""
