"""The Skew station."""
