"""Starting, the window, its menus and keys, and its end."""
