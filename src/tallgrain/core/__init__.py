"""The heart: geometry, solvers and statistics, with no interface, files or link."""
