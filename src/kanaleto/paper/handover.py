"""What is handed over with a plant: what is unfinished first, the site with all its files, the checkout, the journal,
the papers, and check sums that any machine can verify. No key, no certificate and no password is ever in it."""

import os
import re
import zipfile
from collections.abc import Callable, Mapping
from hashlib import sha256
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory
from urllib.parse import parse_qsl, urlencode

import tomlkit

from kanaleto.files.beside import folder_beside
from kanaleto.files.loading import LoadedSite
from kanaleto.files.sitetext import tables_of
from kanaleto.files.whole import write_bytes_whole
from kanaleto.history.eventtable import write_log
from kanaleto.paper.drawing import write_elsewhere
from kanaleto.paper.report import maps_document, report_document
from kanaleto.paper.siteschemes import scheme_sheet
from kanaleto.proof.reportfacts import ReportFacts, left_of
from kanaleto.proof.sheet import NAME as SHEET

_SECRET_KEYS = ("serve_cert", "serve_key", "serve_ca", "roles")
_SECRET_OF_LINK = ("key", "cert", "ca")
_PASSWORD = re.compile(r"(\b[a-z][a-z0-9+.-]*://[^\s/:@\"']*):[^\s/@\"']+@", re.IGNORECASE)
_FOLDERS = ("routines", "rehearsals")
_NEVER = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY-----")
_MOST_BYTES = 50_000_000


class CannotHandOver(Exception):
    """One sentence."""


def write_handover(loaded: LoadedSite, out: Path, facts: ReportFacts, beside: Mapping[str, Path]) -> int:
    """How many files are in it. `beside` are more files by their names in it (a record, a tape) that were asked for.
    Never overwrites; whole or not at all. Raises CannotHandOver, NoPaper, OSError."""
    if out.exists():
        raise CannotHandOver(f"{out} is there already, and stays as it is; name another file")
    path = loaded.site.path
    if path is None or not path.exists():
        raise CannotHandOver("the site was never saved: ctrl+s saves it first")
    with TemporaryDirectory(prefix="kanaleto-handover-") as place:
        folder = Path(place)
        files: dict[str, bytes] = {}
        left_out: list[str] = []
        _site_files(loaded, path, files, left_out)
        _kept_files(path, files)
        _papers(loaded, facts, folder, files)
        journal = folder / "journal.csv"
        write_log(journal, "csv", [*facts.journal], path.stem, "UTC")
        files["journal.csv"] = _without_passwords(journal.read_bytes())
        files["UNFINISHED.txt"] = _unfinished(facts, left_out).encode()
        for name, file in beside.items():
            files[name] = file.read_bytes()
        for name, data in files.items():
            if _NEVER.search(data.decode("utf-8", "replace")):
                raise CannotHandOver(f"{name} holds a private key: take it out of the site's folder first")
        names = ["UNFINISHED.txt", *sorted(name for name in files if name != "UNFINISHED.txt")]
        packed = folder / "handover.zip"
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            for name in names:
                archive.writestr(name, files[name])
            sums = "".join(f"{sha256(files[name]).hexdigest()}  {name}\n" for name in names)
            archive.writestr("SHA256SUMS", sums)
        write_bytes_whole(out, packed.read_bytes())
        return len(names) + 1


def _unfinished(facts: ReportFacts, left_out: list[str]) -> str:
    left = left_of(facts.claims)
    rows = [f"{facts.site.name}: what is unfinished", ""]
    rows += [f"{claim.state.value:<10} {claim.key.claim:<9} {claim.key}" for claim in left] or ["nothing"]
    rows += ["", *facts.messages] if facts.messages else []
    rows += ["", "Left out of this handover:", *left_out] if left_out else []
    return "\n".join([*rows, ""])


def _site_files(loaded: LoadedSite, path: Path, files: dict[str, bytes], left_out: list[str]) -> None:
    """The site file without secrets, its maps and what else it reads, below one folder."""
    base = path.parent.resolve()
    document = tomlkit.parse(loaded.texts.get(path) or path.read_text(encoding="utf-8"))
    moved = _names_within(base, [text for text in loaded.texts if text.resolve() != path.resolve()])
    _point_to(document, base, moved)
    _take_out_secrets(document, left_out)
    files[path.name] = _without_passwords(tomlkit.dumps(document).encode())
    for file, name in moved.items():
        files[name] = _without_passwords(loaded.texts[file].encode())
    for folder in _FOLDERS:
        for file in sorted((base / folder).rglob("*")):
            if file.is_file() and file.suffix in (".toml", ".csv") and file.stat().st_size < _MOST_BYTES:
                files[file.relative_to(base).as_posix()] = _without_passwords(file.read_bytes())


def _names_within(base: Path, paths: list[Path]) -> dict[Path, str]:
    """What each file is called in the handover: as it lies beside the site, or below maps/ where it lies elsewhere."""
    found: dict[Path, str] = {}
    for path in paths:
        real = Path(os.path.normpath(path.absolute()))
        try:
            name = real.relative_to(base).as_posix()
        except ValueError:
            name = PurePosixPath("maps", path.name).as_posix()
        number = 2
        while name in found.values():
            name, number = PurePosixPath("maps", f"{path.stem}-{number}{path.suffix}").as_posix(), number + 1
        found[path] = name
    return found


def _point_to(document: tomlkit.TOMLDocument, base: Path, moved: Mapping[Path, str]) -> None:
    """Maps that lay elsewhere are named where they lie now."""
    by_real = {os.path.normpath(path.absolute()): name for path, name in moved.items()}

    def changed(table: "tomlkit.items.Table") -> None:
        text = table.get("map")
        if isinstance(text, str):
            name = by_real.get(os.path.normpath(base / text))
            if name is not None and name != text:
                table["map"] = name

    for line in tables_of(document, "line"):
        for device in tables_of(line, "device"):
            changed(device)
    for bridge in tables_of(document, "bridge"):
        for device in tables_of(bridge, "device"):
            changed(device)


def _take_out_secrets(document: tomlkit.TOMLDocument, left_out: list[str]) -> None:
    for line in tables_of(document, "line"):
        for key in _SECRET_KEYS:
            if key in line:
                del line[key]
                left_out += [f"{line.get('name')}: {key}"]
        if "link" in line:
            line["link"] = _plain_link(str(line["link"]), f"{line.get('name')}: link", left_out)
    bridges = document.get("bridge")
    for number in reversed(range(len(tables_of(document, "bridge")))):
        bridge = tables_of(document, "bridge")[number]
        has_keys = any(key in bridge for key in _SECRET_KEYS)
        for key in _SECRET_KEYS:
            if key in bridge:
                del bridge[key]
        listen = bridge.get("listen", "")
        ways = [listen] if isinstance(listen, str) else list(listen)
        if has_keys and any(str(way).startswith("tls:") for way in ways) and bridges is not None:
            left_out.append(
                f"bridge {bridge.get('name')}: it is served over TLS, and its certificate is not handed over"
            )
            del bridges[number]
    if bridges is not None and not bridges:
        del document["bridge"]


def _plain_link(link: str, what: str, left_out: list[str]) -> str:
    """Without paths to keys and certificates."""
    place, mark, query = link.partition("?")
    if not mark:
        return link
    parts = parse_qsl(query, keep_blank_values=True)
    kept = [(key, value) for key, value in parts if key not in _SECRET_OF_LINK]
    if len(kept) == len(parts):
        return link
    left_out.append(f"{what}: its key and certificates")
    return f"{place}?{urlencode(kept)}" if kept else place


def _without_passwords(data: bytes) -> bytes:
    """URLs keep their user, and lose the password."""
    try:
        return _PASSWORD.sub(r"\1@", data.decode("utf-8")).encode()
    except UnicodeDecodeError:
        return data


def _kept_files(path: Path, files: dict[str, bytes]) -> None:
    """The sheet and the snapshots, where the application looks for them; the sheet also at the top, to be merged."""
    beside = folder_beside(path)
    sheet = beside / SHEET
    if sheet.is_file():
        data = _without_passwords(sheet.read_bytes())
        files[SHEET] = data
        files[f"{path.stem}.kanaleto/{SHEET}"] = data
    for file in sorted((beside / "snapshots").glob("*.csv")):
        if file.stat().st_size < _MOST_BYTES:
            files[f"{path.stem}.kanaleto/snapshots/{file.name}"] = _without_passwords(file.read_bytes())


def _papers(loaded: LoadedSite, facts: ReportFacts, folder: Path, files: dict[str, bytes]) -> None:
    site = loaded.site
    made: dict[str, Callable[[], object]] = {
        "report.pdf": lambda: write_elsewhere(report_document(facts), folder / "report.pdf"),
        "site.pdf": lambda: write_elsewhere(scheme_sheet(site, facts.note), folder / "site.pdf"),
        "site.svg": lambda: write_elsewhere(scheme_sheet(site, facts.note), folder / "site.svg"),
        "maps.pdf": lambda: write_elsewhere(maps_document(site, [*site.devices()]), folder / "maps.pdf"),
    }
    for name, make in made.items():
        make()
        files[name] = (folder / name).read_bytes()
