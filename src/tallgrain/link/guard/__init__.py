"""The one way to move a printer: trust in its height, how low it may go, and the moves."""
