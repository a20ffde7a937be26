"""One module a station."""
