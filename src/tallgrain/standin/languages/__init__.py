"""The console languages of a stand-in, each of its own making."""
