"""From a warm-up to a calibrated performer: names, bones and marker positions, nobody clicking."""
