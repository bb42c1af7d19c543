"""Papers of the site from Proof: asked for by name, made by a process of its own."""

from collections.abc import Callable
from pathlib import Path

from kanaleto.files.loading import load_whole
from kanaleto.paper.drawing import write_elsewhere
from kanaleto.paper.handover import CannotHandOver, write_handover
from kanaleto.paper.look import NoPaper
from kanaleto.paper.report import maps_document, report_document
from kanaleto.paper.sheets import Sheet
from kanaleto.paper.siteschemes import scheme_sheet
from kanaleto.proof.reportfacts import gather
from kanaleto.proof.sheet import CannotKeep
from kanaleto.site.filefaults import FaultyFile
from kanaleto.tui.shared.context import Context, Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.tui.shared.holder import expanded


def ask_papers(context: Context) -> None:
    """Which paper, by the name of its file: handover ends in .zip, the drawing has site in its name, maps map."""
    name = context.door.opened.path.stem

    def take(text: str) -> Stoppable | str | None:
        try:
            path = expanded(text)
        except ValueError as error:
            return str(error)
        make = _maker(context, path)
        if isinstance(make, str):
            return make
        if path.exists():
            return f"{path.name} is there already, and stays as it is; name another file"
        if not path.parent.is_dir():
            return f"{path} cannot be written: its folder does not exist"
        failures = (NoPaper, CannotHandOver, CannotKeep, FaultyFile, OSError)
        return begin_elsewhere(context, "paper", "making it …", make, failures)

    question = "report.pdf, site.svg (drawing), maps.pdf or handover.zip: which, and where"
    context.ask(question, f"{name}-report.pdf", take)


def _maker(context: Context, path: Path) -> Callable[[], str] | str:
    """What makes that file, or why nothing does."""
    lower, site_path = path.name.lower(), context.door.opened.path
    site = context.snapshot.site

    def drawn(make: Callable[[], Sheet]) -> Callable[[], str]:
        def work() -> str:
            write_elsewhere(make(), path)
            return f"written to {path}"

        return work

    if lower.endswith(".zip"):

        def handed() -> str:
            loaded = load_whole(site_path)
            count = write_handover(loaded, path, gather(loaded.site, site_path, None, None, (), ""), {})
            return f"{count} files are in {path}"

        return handed
    if not lower.endswith((".pdf", ".svg")):
        return f"{path.name} does not tell its form; end it in .pdf, .svg or .zip"
    if "map" in lower:
        return drawn(lambda: maps_document(site, [*site.devices()]))
    if "site" in lower or lower.endswith(".svg"):
        return drawn(lambda: scheme_sheet(site))
    return drawn(lambda: report_document(gather(site, site_path, None, None, (), "")))
