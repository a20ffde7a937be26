"""Reports on a bed, to be posted or sent: the same blocks as HTML and as PDF."""
