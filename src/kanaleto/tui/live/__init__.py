"""Live: all points by device, as they are now."""
