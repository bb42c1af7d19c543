"""Exchanges on disk: the tape that is always kept, captures in open formats, and both read back."""
