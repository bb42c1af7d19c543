"""What was: events in a journal, samples in a store."""
