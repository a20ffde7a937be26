"""QPainter routines shared by screen and files."""
