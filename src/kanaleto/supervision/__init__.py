"""Who lives long in this program, and what becomes of it when it fails."""
