"""Where to touch, and in which order."""
