"""The Machine station."""
