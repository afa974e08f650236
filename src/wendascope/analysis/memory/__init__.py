"""Graphics memory and what moves in it."""
