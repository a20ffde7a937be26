"""The Drift station."""
