"""Sets the demo up: a copy of its site in a folder of its own, and its devices in a process of their own."""

import os
import shutil
import socket
import subprocess
import sys
import tempfile
from importlib import resources
from pathlib import Path
from types import TracebackType

_PORT = 15020
_PREFIX = "kanaleto-demo-"


class CannotStart(Exception):
    """One sentence: why the demo's devices do not run."""


def is_demo(site: Path) -> bool:
    """Whether a site is a running demo's own."""
    return site.parent.name.startswith(_PREFIX)


class Demo:
    """As a context: the devices run inside it. `site_path` is the demo's site file. As a lesson one point of it is off
    by one, while its devices are as they were."""

    def __init__(self, is_lesson: bool = False) -> None:
        self._is_lesson = is_lesson
        self._folder = Path(tempfile.mkdtemp(prefix=_PREFIX))
        self.site_path = self._folder / "alder-lock.toml"
        self._process: subprocess.Popen[str] | None = None

    def __enter__(self) -> "Demo":
        try:
            try:
                copy_site(self._folder, free_port(_PORT))
                self._start()
            except CannotStart:  # another demo may have taken the port in the same instant
                copy_site(self._folder, free_port(0))
                self._start()
            if self._is_lesson:
                _spoil(self._folder / "maps" / "level.csv")
        except BaseException:
            self._clean()
            raise
        return self

    def _start(self) -> None:
        command = [sys.executable, "-m", "kanaleto.demo.slaves", str(self.site_path)]
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        self._process = process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment
        )
        assert process.stdout is not None and process.stderr is not None
        if process.stdout.readline().strip() != "ready":
            process.terminate()
            _, errors = process.communicate()
            self._process = None
            said = errors.strip().splitlines()
            raise CannotStart(f"the demo's devices do not start: {said[-1] if said else 'they said nothing'}")

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._clean()

    def _clean(self) -> None:
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout, self._process.stderr):
                if pipe is not None:
                    pipe.close()
        shutil.rmtree(self._folder, ignore_errors=True)


def _spoil(level: Path) -> None:
    """Damping time stands one register too high; its note says what the display shows."""
    rows = level.read_text(encoding="utf-8").splitlines()
    note = rows[0].split(",").index("note")
    for number, row in enumerate(rows):
        cells = row.split(",")
        if cells[0] == "Damping time":
            cells[2], cells[note] = str(int(cells[2]) + 1), "Lesson: the display shows 3.000 s. What is wrong here?"
            rows[number] = ",".join(cells)
    level.write_text("\n".join(rows) + "\n", encoding="utf-8")


def copy_site(folder: Path, port: int) -> Path:
    """Write the demo's site and maps into `folder`, its cabinet at `port`; gives the site file."""
    source = resources.files("kanaleto.demo") / "site"
    with resources.as_file(source) as from_folder:
        shutil.copytree(from_folder, folder, dirs_exist_ok=True)
    path = folder / "alder-lock.toml"
    text = path.read_text(encoding="utf-8")
    path.write_text(text.replace(f"127.0.0.1:{_PORT}", f"127.0.0.1:{port}"), encoding="utf-8")
    return path


def free_port(wanted: int) -> int:
    """`wanted` when nobody listens there, else one that is free."""
    for port in (wanted, 0):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise CannotStart("no TCP port is free on this machine")
