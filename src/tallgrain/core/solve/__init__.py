"""Solved corrections: what to change, by how much, and how sure that is."""
