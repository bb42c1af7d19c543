"""Runs each command of the pages as it stands there, on a copy of the demo site: `python -m tests.page_commands`. Part
of `make release-check`. What needs an adapter, another host or a database server is left out, and counted."""

import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).parents[1]
_MADE = ("commands.md", "keys.md")
_ELSEWHERE = ("/dev/ttyUSB0", "192.0.2.", "postgresql:", "<TAB>", "kanaleto find --everything")
_SERVES = ("poll", "serve", "bridge", "pair", "replay", "rehearse")
_ALONE = ("serve", "replay", "rehearse", "demo")  # they are the far end themselves
_MAY_DIFFER = ("proof", "check", "rehearse", "find", "bridge", "raw")  # 1 is an answer, too
_SITE = "alder-lock.toml"
_TAKES_LONG = {("find", "--everything"), ("clone", "office.toml")}  # begun, and ended by a signal
_MADE_BY_ONE = (".zip", ".pdf", ".svg", ".pcapng", "out.toml", "office.toml", "mast.csv")  # never overwritten
_STANDS_FOR = {
    "SITE": _SITE, "FILE": "rehearsals/night.toml", "night.toml": "rehearsals/night.toml", "OUT.toml": "out.toml",
    "LINK": "tcp://127.0.0.1:15020", "HEX": "0300000001", "mine.toml": "own/mine.toml",
    "rtu://a": "rtu://./a", "rtu://b": "rtu://./b",
}  # fmt: skip
_SERVED_S, _MOST_S = 4.0, 120.0


def commands_of(page: Path) -> Iterator[list[str]]:
    """The words of each command that the page has, options in brackets included."""
    for line in re.findall(r"^(?: {4})?(kanaleto .+)$", page.read_text(encoding="utf-8"), re.MULTILINE):
        text = re.split(r" {2,}|  ?[—…]", line)[0].replace("[", "").replace("]", "")
        if "kanaleto" in text and not any(word in text for word in _ELSEWHERE):
            yield shlex.split(text)[1:]


class Runs:
    """In a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._environment = {**os.environ, "HOME": str(folder), "PYTHONPATH": str(ROOT / "src")}
        self._far: subprocess.Popen[bytes] | None = None

    def begin(self, *words: str) -> "subprocess.Popen[bytes]":
        return subprocess.Popen(
            [sys.executable, "-m", "kanaleto", *words], cwd=self._folder, env=self._environment,
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip

    def end(self, process: "subprocess.Popen[bytes]", within_s: float = _MOST_S) -> tuple[int, str]:
        try:
            told = process.communicate(timeout=within_s)[0]
        except subprocess.TimeoutExpired:
            process.kill()
            told = process.communicate()[0] + f"\nit did not end within {within_s:.0f} s".encode()
        return process.returncode, told.decode(errors="replace")

    def stop(self, process: "subprocess.Popen[bytes]") -> tuple[int, str]:
        process.send_signal(signal.SIGTERM)
        return self.end(process, 20)

    def far(self, is_wanted: bool) -> None:
        """The far end of the demo, there or not."""
        if is_wanted and self._far is None:
            self._far = self.begin("serve", _SITE)
            assert self._far.stdout is not None
            while b"ready" not in (row := self._far.stdout.readline()):
                assert row, "the far end does not begin"
        elif not is_wanted and self._far is not None:
            self.stop(self._far)
            self._far = None

    @contextmanager
    def _passing(self, is_wanted: bool) -> Iterator[None]:
        """The bridge of the demo, while one of its masters asks."""
        bridge = self.begin("bridge", _SITE) if is_wanted else None
        time.sleep(_SERVED_S if is_wanted else 0)
        yield
        if bridge is not None:
            self.stop(bridge)

    def run(self, words: list[str]) -> str:
        """What is wrong, or nothing."""
        words = [_STANDS_FOR.get(word, word) for word in words]
        for word in words:
            if word.endswith(_MADE_BY_ONE) and words[0] != "wire":
                (self._folder / word).unlink(missing_ok=True)
        self.far(words[0] not in _ALONE)
        takes_long = any({*pair} <= {*words} for pair in _TAKES_LONG)
        with self._passing("15502" in " ".join(words)):
            if (words[0] in _SERVES and "--test" not in words) or takes_long:
                process = self.begin(*words)
                time.sleep(_SERVED_S)
                code, text = self.stop(process) if process.poll() is None else self.end(process)
                code = 0 if takes_long and code == 1 else code  # ended before it had found anything
            else:
                code, text = self.end(self.begin(*words))
        if words[:2] == ["export", "line"] and "nothing fits the filter" in text:  # its stretch is of another night
            return ""
        is_right = code == 0 or (code == 1 and words[0] in _MAY_DIFFER)
        return "" if is_right and "an error of its own" not in text else f"exit {code}: {text.strip()[-400:]}"


def prepare(folder: Path) -> None:
    shutil.copytree(ROOT / "src/kanaleto/demo/site", folder, dirs_exist_ok=True)
    shutil.copy(next((folder / "rehearsals").glob("*.toml")), folder / "rehearsals/night.toml")
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    mine = folder / "own"
    mine.mkdir()
    (mine / "mine.toml").write_text(re.findall(r"```toml\n(.*?)```", readme, re.DOTALL)[0])
    (mine / "meter.csv").write_text(re.findall(r"```\n(name,table.*?)```", readme, re.DOTALL)[0])


def main() -> int:
    count = wrong = 0
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder_name:
        folder = Path(folder_name)
        prepare(folder)
        runs = Runs(folder)
        try:
            runs.far(True)
            for first in (("poll", _SITE, "--for", "3", "--quiet", "--record", "--capture", "night.jsonl"),
                          ("proof", _SITE, "--take", "Weather mast/Wind speed", "--expected", "3")):  # fmt: skip
                runs.end(runs.begin(*first))
            (folder / "from-ben").mkdir()
            shutil.copy(folder / "alder-lock.kanaleto/sheet.jsonl", folder / "from-ben/sheet.jsonl")
            for page in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]:
                for words in commands_of(page) if page.name not in _MADE else ():
                    if not words or words[0].endswith((".toml", ".jsonl")) or words[0] == "SITE":
                        continue  # the application itself
                    count += 1
                    why = runs.run(words)
                    wrong += bool(why)
                    sys.stdout.write(f"{'WRONG' if why else 'right'}  {page.name}: kanaleto {shlex.join(words)}\n")
                    sys.stdout.write(f"       {why}\n" if why else "")
                    sys.stdout.flush()
        finally:
            runs.far(False)
    sys.stdout.write(f"{count} commands of the pages, {wrong} not as they say\n")
    return 1 if wrong or count < 50 else 0


if __name__ == "__main__":
    sys.exit(main())
