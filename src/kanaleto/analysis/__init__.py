"""What is made of what was polled: limits, what moved, comparing, arranging, other readings."""
