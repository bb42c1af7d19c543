"""A checkout of the whole demo by keys in a real terminal, and the same by `kanaleto proof --take`, on two copies of
the site before one far end, one after the other: `python -m tests.checkout`. Part of `make release-check`.

The registers of the far end stand still, so that both see the same."""

import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from kanaleto.files.loading import load_site
from tests.terminal import KANALETO, Terminal

_SITE = Path(__file__).parents[1] / "src/kanaleto/demo/site"
_ASKED = r"^ +(.+): the display shows(.*)$"
_COMMAND = (sys.executable, "-m", "kanaleto")


def _command(folder: Path, *words: str) -> str:
    done = subprocess.run(
        [*_COMMAND, *words], cwd=folder, capture_output=True, text=True, timeout=300, stdin=subprocess.DEVNULL
    )
    return done.stdout + done.stderr


def states_of(folder: Path) -> dict[tuple[str, str, str, str], str]:
    rows = [
        json.loads(row) for row in _command(folder, "proof", "alder-lock.toml", "--json").splitlines() if row[:1] == "{"
    ]
    return {(row["claim"], row["device"], row["point"], row["level"]): row["state"] for row in rows if "claim" in row}


def shown_now(screen: str, device: str, point: str) -> str:
    """What the sheet shows of a point now, as one would type it."""
    rows = screen.splitlines()
    begin = next(at for at, row in enumerate(rows) if re.match(rf" *\S {re.escape(device)}  ", row))
    row = next((row for row in rows[begin + 1 :] if row[3:].startswith(point[:12])), "")
    text = re.search(r"(\S.*?) now", row[24:])
    number = re.match(r"-?[\d ]+(?:\.\d+)?(?= |$)", text[1]) if text else None
    found = number[0].replace(" ", "") if number else text[1] if text else ""
    return "" if "…" in row[24:60] else found


def polled(folder: Path) -> dict[tuple[str, str], str]:
    texts = _command(folder, "poll", "alder-lock.toml", "--for", "3", "--json").splitlines()
    rows = [json.loads(row) for row in texts if row[:1] == "{"]
    return {(row["device"], row["point"]): str(row["value"]) for row in rows if "point" in row}


def by_keys(folder: Path, terminal: Terminal) -> list[tuple[str, str, str]]:
    """Each claim that a display proves; gives device, point, and what was typed."""
    taken: list[tuple[str, str, str]] = []
    before = polled(folder)
    terminal.run(f"cd {folder} && {KANALETO} alder-lock.toml")
    terminal.wait_for("all answering")
    time.sleep(3)
    terminal.type("7")
    terminal.wait_for("to go")
    seen: set[tuple[str, ...]] = set()
    while True:
        terminal.type("]")
        time.sleep(0.4)
        screen = terminal.screen
        beside = tuple(row[117:].strip() for row in screen.splitlines()[2:9])
        if beside in seen:
            return taken
        seen.add(beside)
        terminal.type("Enter")
        time.sleep(0.8)
        if "what answers on" in terminal.screen:
            terminal.write("stand-in")
            terminal.type("Enter")
            time.sleep(0.8)
        asked = re.search(_ASKED, terminal.screen, re.MULTILINE)
        point = asked[1] if asked is not None else ""
        device = next(text for text in beside if text and text != point)
        if asked is None or (device, point) not in before:  # a write, a limit, a level: not what a display shows now
            terminal.type("Escape")
            continue
        value = asked[2].strip()  # a state at a level expects that level
        if not value or value.startswith("("):
            value = shown_now(screen, device, point) or before[device, point]  # what is cut on the screen
            terminal.write(value)
        terminal.type("Enter")
        terminal.wait_for(rf"{re.escape(device)}/{re.escape(point)}: (passed|failed)", 30)
        taken.append((device, point, value))


def by_command(folder: Path, taken: list[tuple[str, str, str]]) -> None:
    """The same claims, each against what stands there now; a claim of several levels has them in their order."""
    now = polled(folder)
    levels: dict[tuple[str, str], list[str]] = {}
    for claim, device, point, level in states_of(folder):
        if claim == "state" and level:
            levels.setdefault((device, point), []).append(level)
    for device, point, _ in taken:
        level = levels[device, point].pop(0) if levels.get((device, point)) else ""
        words = ("proof", "alder-lock.toml", "--take", f"{device}/{point}")
        _command(folder, *words, *(("--level", level) if level else ("--expected", now[device, point])))


def main() -> int:
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder_name:
        keys, command = Path(folder_name, "keys"), Path(folder_name, "command")
        for folder in (keys, command):
            shutil.copytree(_SITE, folder)
        still = [f"--fault={device.name}: frozen" for _, device in load_site(keys / "alder-lock.toml")[0].devices()]
        words = [*_COMMAND, "serve", "alder-lock.toml", *still]
        far = subprocess.Popen(words, cwd=keys, stdout=subprocess.PIPE, text=True)
        try:
            assert far.stdout is not None and "ready" in far.stdout.readline()
            ports = keys / "ports"
            if ports.exists():  # the other copy reaches the same devices
                (command / "ports").symlink_to(ports)
            with Terminal() as terminal:
                taken = by_keys(keys, terminal)
                terminal.type("C-q", "C-q")
                terminal.wait_until(lambda screen: "% busy" not in screen, "the end")
            judged = [key for key, state in states_of(keys).items() if state != "open"]
            taken += [(device, point, "") for claim, device, point, level in judged if claim == "state" and level]
            by_command(command, taken)
        finally:
            far.terminate()
            far.wait(30)
        ones, others = states_of(keys), states_of(command)
    unlike = {claim: (ones[claim], others.get(claim)) for claim in ones if ones[claim] != others.get(claim)}
    for claim, states in unlike.items():
        sys.stdout.write(f"{'/'.join(claim)}: by keys {states[0]}, by command {states[1]}\n")
    counts = {state: list(ones.values()).count(state) for state in sorted({*ones.values()})}
    sys.stdout.write(f"{len(taken)} claims taken by keys and by command: {counts}; {len(unlike)} not alike\n")
    return 1 if unlike or len(taken) < 70 or "proved" in counts else 0


if __name__ == "__main__":
    sys.exit(main())
