"""The Tilt station."""
