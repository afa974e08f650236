"""What calls, state and limits are called in sentences."""
