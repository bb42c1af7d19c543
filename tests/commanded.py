"""Runs commands as processes of their own, forked from one that has imported them already: a start costs a twentieth of
that of a new interpreter, and all the rest is as it is for a user."""

import contextlib
import importlib
import json
import os
import pkgutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

_lock = threading.Lock()
_server: "subprocess.Popen[bytes] | None" = None


def run(*words: str, within_s: float = 300) -> tuple[int, str, str]:
    """`kanaleto` with these words: exit code, stdout, stderr. Raises subprocess.TimeoutExpired."""
    with tempfile.TemporaryDirectory() as folder:
        out, err = Path(folder) / "out", Path(folder) / "err"
        asked: dict[str, object] = {
            "words": words,
            "cwd": os.getcwd(),
            "env": dict(os.environ),
            "out": str(out),
            "err": str(err),
        }
        with _lock:
            code = _ask(asked, within_s)
        return code, out.read_text(errors="replace"), err.read_text(errors="replace")


def _ask(asked: dict[str, object], within_s: float) -> int:
    global _server
    if _server is None or _server.poll() is not None:
        command = [sys.executable, "-c", "from tests.commanded import serve; serve()"]
        _server = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert _server.stdin is not None and _server.stdout is not None
    _server.stdin.write(json.dumps(asked).encode() + b"\n")
    _server.stdin.flush()
    pid = int(_server.stdout.readline())
    late = threading.Timer(within_s, _kill, (pid,))
    begun_s = time.monotonic()
    late.start()
    try:
        code = int(_server.stdout.readline())
    finally:
        late.cancel()
    if time.monotonic() - begun_s >= within_s:
        raise subprocess.TimeoutExpired(str(asked["words"]), within_s)
    return code


def _kill(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def serve() -> None:
    """For the process that forks: a request a line; the child's number, and then its exit code."""
    from kanaleto import cli

    for module in pkgutil.iter_modules(cli.__path__, "kanaleto.cli."):
        if module.name.rpartition(".")[2] not in ("app", "__main__"):
            importlib.import_module(module.name)
    for line in sys.stdin.buffer:
        asked = json.loads(line)
        pid = os.fork()
        if pid == 0:
            _be(asked)
        print(pid, flush=True)
        print(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]), flush=True)


def _be(asked: dict[str, object]) -> None:
    """The child becomes the command."""
    code = 1
    try:
        for number, place, flags in (
            (0, os.devnull, os.O_RDONLY),
            (1, asked["out"], os.O_WRONLY | os.O_CREAT),
            (2, asked["err"], os.O_WRONLY | os.O_CREAT),
        ):
            os.dup2(os.open(str(place), flags, 0o600), number)
        os.chdir(str(asked["cwd"]))
        os.environ.clear()
        os.environ.update(asked["env"])  # type: ignore[call-overload]
        sys.argv = ["kanaleto", *asked["words"]]  # type: ignore[misc]
        from kanaleto.cli.main import run as run_command

        run_command()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    finally:
        with contextlib.suppress(Exception):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code)
