"""Asking: which block of a line is due, on which connection, and what an outcome means."""
