"""Simulated slave devices: registers, how they answer, and servers for TCP and pseudo-terminals."""
