"""What limits a shader, and the log of everything that was tried."""
