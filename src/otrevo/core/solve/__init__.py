"""From named markers and a suit to the motion of a body."""
