"""The pages that are made from the code: docs/commands.md, docs/keys.md and the page for man. `python -m
scripts.pages` writes them; a test fails where they differ."""

from collections.abc import Iterator
from pathlib import Path

import click

from kanaleto import __version__
from kanaleto.cli.main import kanaleto
from kanaleto.tui.frame.everywhere import EVERYWHERE, UNLESS_TAKEN
from kanaleto.tui.frame.keys import MOVING, key_rows, parts_of
from kanaleto.tui.shared.views import VIEWS

DOCS = Path(__file__).parents[1] / "docs"
_MADE = "Made from the code by `python -m scripts.pages`; a test fails where it differs."


def commands_page() -> str:
    """Every command with its help."""
    context = click.Context(kanaleto, info_name="kanaleto", terminal_width=100, max_content_width=100)
    parts = [
        f"# All commands\n\n{_MADE} `man kanaleto` shows the same.\n",
        _help("kanaleto", kanaleto.get_help(context)),
    ]
    for name in kanaleto.list_commands(context):
        command = kanaleto.get_command(context, name)
        assert command is not None
        parts.append(_of(f"kanaleto {name}", name, command, context))
    return "\n".join(parts)


def _of(title: str, name: str, command: click.Command, parent: click.Context) -> str:
    context = click.Context(command, info_name=name, parent=parent, terminal_width=100, max_content_width=100)
    text = _help(title, command.get_help(context))
    if isinstance(command, click.Group):
        for child in command.list_commands(context):
            sub = command.get_command(context, child)
            assert sub is not None
            text += "\n" + _of(f"{title} {child}", child, sub, context)
    return text


def _help(title: str, text: str) -> str:
    return f"## {title}\n\n```\n{text.rstrip()}\n```\n"


def keys_page() -> str:
    """Every key, by view."""
    views = [entry.load() for entry in VIEWS]
    parts = [("Everywhere", [("1 to 7", f"go to {', '.join(view.title for view in views)}"), *MOVING])]
    parts[0][1].extend(key_rows((*EVERYWHERE, *UNLESS_TAKEN)))
    for view in views:
        parts += [(name.capitalize() if name.isupper() else name, rows) for name, rows in parts_of(view)]
    rows = [f"# All keys\n\n{_MADE} In the application `?` shows them, `ctrl+p` finds any of them by name.\n"]
    for name, keys in parts:
        rows.append(f"## {name}\n\n| key | what it does |\n|---|---|")
        rows += [f"| {_code(key)} | {_cell(text)} |" for key, text in keys]
        rows.append("")
    return "\n".join(rows)


def _code(key: str) -> str:
    """A key as code, whatever it is."""
    key = key.replace("|", "\\|")
    return f"`{key}`" if "`" not in key else f"`` {key} ``"


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def man_page() -> str:
    """All commands as a page for man, in roff."""
    context = click.Context(kanaleto, info_name="kanaleto", terminal_width=78, max_content_width=78)
    rows = [
        f'.\\" {_MADE}',
        f'.TH KANALETO 1 "" "Kanaleto {__version__}" "User Commands"',
        ".SH NAME",
        "kanaleto \\- map, poll and simulate field-bus slave devices",
        *_roff_section("DESCRIPTION", kanaleto.get_help(context)),
    ]
    for name in kanaleto.list_commands(context):
        command = kanaleto.get_command(context, name)
        assert command is not None
        for title, text in _helps(f"kanaleto {name}", name, command, context):
            rows += _roff_section(title.upper(), text)
    return "\n".join(rows) + "\n"


def _helps(title: str, name: str, command: click.Command, parent: click.Context) -> Iterator[tuple[str, str]]:
    context = click.Context(command, info_name=name, parent=parent, terminal_width=78, max_content_width=78)
    yield title, command.get_help(context)
    if isinstance(command, click.Group):
        for child in command.list_commands(context):
            sub = command.get_command(context, child)
            assert sub is not None
            yield from _helps(f"{title} {child}", child, sub, context)


def _roff_section(title: str, text: str) -> list[str]:
    return [f'.SH "{_roff(title)}"', ".nf", *(_roff(row) for row in text.rstrip().splitlines()), ".fi"]


def _roff(text: str) -> str:
    """A row as it stands: no request, no escape."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq").replace("`", "\\(ga")
    return f"\\&{escaped}" if escaped.startswith(".") else escaped


PAGES = {"commands.md": commands_page, "keys.md": keys_page, "kanaleto.1": man_page}


def main() -> None:
    for name, make in PAGES.items():
        (DOCS / name).write_text(make(), encoding="utf-8")


if __name__ == "__main__":
    main()
