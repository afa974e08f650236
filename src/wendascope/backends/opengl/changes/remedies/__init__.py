"""One file a kind of remedy, or a few that share their means; each registers what it does."""
