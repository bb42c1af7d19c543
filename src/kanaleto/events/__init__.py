"""What happened, reported once and not every cycle; and the wall time of it."""
