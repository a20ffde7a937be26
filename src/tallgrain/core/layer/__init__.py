"""The first layer that the next print would get, what it is made of, and what to do about it."""
