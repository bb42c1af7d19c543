"""The view Find: where to look, what answers there, and the scratch reading."""
