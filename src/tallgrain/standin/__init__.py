"""Simulated printers with a hidden truth, run as processes of their own."""
