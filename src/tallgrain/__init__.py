"""Tall Grain: a bench instrument for people who build printers."""

__version__ = "0.2.0"
