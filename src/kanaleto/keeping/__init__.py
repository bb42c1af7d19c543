"""What is kept of a site: journal, record and tape as one thing that begins and ends with the engine."""
