"""Changes to a site file and its maps that keep everything else of them: comments, order, keys and columns that nobody
here knows.

All of it is text in, text out; whoever calls writes the result beside its place and renames it.
"""

import csv
from collections.abc import Iterable, Sequence
from io import StringIO

import tomlkit
from tomlkit.items import AoT, Table

NEW_MAP = "name,table,address,type,order\n"


def new_site_text(name: str) -> str:
    """A site with nothing in it yet."""
    document = tomlkit.document()
    site = tomlkit.table()
    site["name"] = name
    document["site"] = site
    return tomlkit.dumps(document)


def with_device_keys(text: str, changes: dict[str, dict[str, object]]) -> tuple[str, list[str]]:
    """Keys of devices set, by device name; a list is added to the list that stands there. Gives the names that were
    found, too."""
    document = tomlkit.parse(text)
    found: list[str] = []
    for line in tables_of(document, "line"):
        for device in tables_of(line, "device"):
            name = str(device.get("name"))
            for key, value in changes.get(name, {}).items():
                if isinstance(value, list):
                    now = [str(one) for one in device.get(key, [])]
                    device[key] = now + [one for one in value if one not in now]
                else:
                    device[key] = value
            if name in changes:
                found.append(name)
    return tomlkit.dumps(document), found


def with_line(text: str, name: str, link: str) -> str:
    """One line more, at the end."""
    document = tomlkit.parse(text)
    line = tomlkit.table()
    line["name"] = name
    line["link"] = link
    with_appended(document, "line", line)
    return tomlkit.dumps(document)


def with_line_keys(text: str, line_name: str, keys: dict[str, object]) -> str:
    """Keys of a line set. Raises KeyError."""
    document = tomlkit.parse(text)
    line = line_table(document, line_name)
    for key, value in keys.items():
        line[key] = value
    return tomlkit.dumps(document)


def with_link(text: str, line_name: str, link: str) -> str:
    """Another link for a line. Raises KeyError."""
    document = tomlkit.parse(text)
    line_table(document, line_name)["link"] = link
    return tomlkit.dumps(document)


def with_device(text: str, line_name: str, keys: dict[str, object]) -> str:
    """One device more on a line. Raises KeyError when there is no such line."""
    document = tomlkit.parse(text)
    device = tomlkit.table()
    for key, value in keys.items():
        device[key] = value
    with_appended(line_table(document, line_name), "device", device)
    return tomlkit.dumps(document)


def map_delimiter(text: str) -> tuple[str, str]:
    """What stands between the cells of a map, and its line of headings."""
    first = next((line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")), "")
    return max(",;\t", key=first.count), first


def with_headings(map_text: str, wanted: Iterable[str]) -> tuple[str, list[str]]:
    """The map with the headings that it lacks added behind its own; and all of them, in lower case."""
    delimiter, first = map_delimiter(map_text)
    known = [cell.strip().lower() for cell in next(csv.reader([first], delimiter=delimiter), [])]
    missing = [key for key in dict.fromkeys(wanted) if key not in known]
    if missing:
        map_text = map_text.replace(first, first.rstrip("\r\n") + "".join(delimiter + key for key in missing), 1)
    return map_text, known + missing


def with_rows(map_text: str, rows: Sequence[dict[str, str]]) -> str:
    """Rows more in a map, under its own headings and with its own delimiter; a heading that is missing is added."""
    map_text, known = with_headings(map_text, (key for row in rows for key, value in row.items() if value))
    out = StringIO(newline="")
    writer = csv.writer(out, delimiter=map_delimiter(map_text)[0], lineterminator="\n")
    for row in rows:
        writer.writerow([row.get(key, "") for key in known])
    return (map_text if not map_text or map_text.endswith("\n") else map_text + "\n") + out.getvalue()


def with_appended(parent: tomlkit.TOMLDocument | Table, key: str, table: Table) -> None:
    """One table more in an array of tables, which is made where there is none."""
    if not isinstance(parent.get(key), AoT):
        parent[key] = tomlkit.aot()
    array = parent[key]
    assert isinstance(array, AoT)
    array.append(table)


def line_table(document: tomlkit.TOMLDocument, name: str) -> Table:
    """The line of that name. Raises KeyError."""
    for line in tables_of(document, "line"):
        if line.get("name") == name:
            return line
    raise KeyError(name)


def tables_of(parent: tomlkit.TOMLDocument | Table, key: str) -> list[Table]:
    """An array of tables, empty where there is none."""
    array = parent.get(key)
    return list(array) if isinstance(array, AoT) else []
