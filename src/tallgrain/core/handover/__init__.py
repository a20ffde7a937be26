"""Leaving a printer so that every print begins right: the steps, and what is wrong in others'."""
