"""Changes to a site file and its maps that keep everything else of them: comments, order, keys and columns that nobody
here knows.

All of it is text in, text out; whoever calls writes the result beside its place and renames it.
"""

import tomlkit
from tomlkit.items import AoT, Table


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
