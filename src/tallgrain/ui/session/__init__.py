"""The window's model: link, what is shown, work under way, and what stations share."""
