"""Kanaleto: map, poll and simulate field-bus slave devices. `wire` … `bench` are the core; `tui` and `cli` are its two
faces."""

__version__ = "0.10.0"
