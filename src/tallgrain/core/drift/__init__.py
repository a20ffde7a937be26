"""Series over time: one figure a survey, made for all of them at once."""
