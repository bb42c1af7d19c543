"""Bridges: what masters ask at one link goes out on another line, and many of them share it."""
