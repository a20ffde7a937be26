"""Reading and writing files, ours and open ones."""
