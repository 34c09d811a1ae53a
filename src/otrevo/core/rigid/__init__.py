"""A body from tracked rigid bodies strapped to its limbs."""
