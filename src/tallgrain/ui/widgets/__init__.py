"""The parts that stations are built of."""
