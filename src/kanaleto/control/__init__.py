"""Telling devices what to do: the lock, the one door for writes, what is kept alive, routines, snapshots."""
