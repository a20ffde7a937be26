"""Printers that only have a text console, by a dialect that says what its lines mean."""
