"""Papers of the site from Proof: asked for by name, made by a process of its own."""

from kanaleto.tui.shared.context import Context


def ask_papers(context: Context, device: str) -> None:
    """Which paper, and where to."""
    context.tell("no paper yet")
