"""Surfaces that a printer itself holds: made from a survey, weighed, and proven in use."""
