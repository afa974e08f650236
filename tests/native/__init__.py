"""The C side on its own: a driver that only notes what it is given, and the sizes without a context."""
