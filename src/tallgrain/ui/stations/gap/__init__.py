"""The Gap station."""
