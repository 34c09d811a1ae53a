"""A body from a suit alone: how its sensors sit, what the limbs do, and where the body goes."""
