"""The Surface station."""
