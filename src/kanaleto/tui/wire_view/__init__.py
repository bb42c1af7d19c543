"""Wire: each exchange a row, its bytes below, and beside them how each device answers."""
