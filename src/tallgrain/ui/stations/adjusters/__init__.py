"""The Adjusters station."""
