"""Cameras: what they see, where they stand, and the points in space they see together."""
