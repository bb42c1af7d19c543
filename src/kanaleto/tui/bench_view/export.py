"""What masters did, as a table: the same rows as the log of `kanaleto serve`."""

from concurrent.futures import Future
from pathlib import Path

from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.holder import expanded


def ask_export(context: Context, site: str) -> None:
    """Ask where, and let the process write it."""

    def take(text: str) -> "Future[str] | str":
        try:
            path = expanded(text)
        except ValueError as error:
            return str(error)
        if path.suffix != ".csv":
            return f"a table of masters ends in .csv, not in {path.suffix or 'nothing'}"
        if path.exists():
            return f"{path} is there already: name another file"
        if not path.parent.is_dir():
            return f"there is no folder {path.parent}"
        done = context.bench.ask("export", file=str(path))

        def came(done: "Future[str]") -> None:
            error = done.exception()
            text = str(error) if error is not None else done.result()
            context.later(lambda: context.trouble("answer", text) if error is not None else context.tell(text))

        done.add_done_callback(came)
        return done

    name = site.replace("/", "-").replace(" ", "-").lower() or "bench"
    context.ask("export what masters asked and wrote, as", str(Path("~") / f"{name}-masters.csv"), take)
