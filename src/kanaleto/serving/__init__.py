"""Servers on every link and framing, for whoever has the answers."""
