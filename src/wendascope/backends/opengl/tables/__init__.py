"""The tables of a frame, derived from its calls: steps, passes, uses, flow, memory."""
