"""The First layer station: what the next print would get, of what, and what to do about it."""
