"""The Towers station."""
