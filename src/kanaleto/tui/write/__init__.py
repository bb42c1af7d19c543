"""Writing on the screen: the line that a value is typed into, and what it shows before anything goes out."""
