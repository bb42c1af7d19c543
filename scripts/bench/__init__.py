"""`make bench`: each figure a ratio against a floor measured in the same run, printed as a table."""
