"""What ends a command whose device or line failed. Alone, so that the entry of all commands needs nothing else."""


class Failed(Exception):
    """The device or the line failed: one sentence, exit code 1."""
