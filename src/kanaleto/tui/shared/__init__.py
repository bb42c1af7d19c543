"""Widgets and helpers that several views use."""
