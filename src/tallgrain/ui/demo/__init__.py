"""The demo's own: a stand-in beside the window, and a person's hands at it."""
