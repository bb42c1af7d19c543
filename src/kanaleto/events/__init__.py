"""What happened, told once and not every cycle; and the wall time of it."""
