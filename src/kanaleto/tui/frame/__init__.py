"""What stands round every view: top row, lanes, key row."""
