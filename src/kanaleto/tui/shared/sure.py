"""An answer that would lose something is wanted twice."""


class WantedTwice:
    """Of one question."""

    def __init__(self) -> None:
        self._warned = ""

    def answer(self, text: str, loss: str) -> str:
        """What is to be said instead of doing it; nothing where nothing is lost, or the same was answered before."""
        if not loss or self._warned == text:
            return ""
        self._warned = text
        return f"{loss}: enter again does it, escape leaves it"
