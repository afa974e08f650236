"""The window: its frame, its menus, and the work that it hands on."""
