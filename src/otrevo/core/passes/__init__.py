"""Passes of work on a take: each a file that declares itself. The list is in `catalogue`."""
