"""What follows from what was polled: limits, what moved, comparing, arranging, other readings."""
