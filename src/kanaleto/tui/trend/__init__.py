"""The trend of the pinned points: its state, its chart, and what stands beside it."""
