"""Reference planes, flatness, shape terms and interpolation."""
