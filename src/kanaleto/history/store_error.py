"""Why nothing can be recorded. Alone, so that whoever starts a recording needs no database for it."""


class CannotRecord(Exception):
    """One sentence: why nothing can be recorded, or read, there. `is_taken` when somebody else records there,
    `is_damaged` when it is no record or is damaged."""

    def __init__(self, text: str, is_taken: bool = False, is_damaged: bool = False) -> None:
        super().__init__(text)
        self.is_taken, self.is_damaged = is_taken, is_damaged
