"""What is shown in place of a view for a while: the page of keys, the finder."""

from kanaleto.tui.shared.pane import Drawn


class Page(Drawn):
    """Subclasses draw."""

    def begin(self) -> None:
        """It is about to be shown."""
        raise NotImplementedError

    def focus_rows(self) -> None:
        """Give it the keys."""
        raise NotImplementedError
