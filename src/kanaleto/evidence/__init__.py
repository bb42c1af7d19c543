"""What exchanges prove: how devices answer, what a pattern of faults looks like, where a garbled answer is damaged."""
