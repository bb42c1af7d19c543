"""Frames and PDUs as values, both directions, both roles. Sans-I/O: bytes in, objects out; no clock, no socket."""
