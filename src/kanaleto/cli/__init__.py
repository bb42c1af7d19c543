"""The command line: one small file a command."""
