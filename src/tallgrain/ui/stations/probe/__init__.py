"""The Probe station."""
