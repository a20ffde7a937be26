"""What a probe does: how well it repeats, where it is, and what ails it."""
