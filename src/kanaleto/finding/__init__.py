"""What stands behind the view Find: the desk that starts surveys, their states, scratch readings."""
