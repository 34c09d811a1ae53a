"""Holds only the migrations of what has moved to `takes`."""
