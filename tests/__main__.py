"""Runs every test, a few files at a time in processes of their own, and says at the end how many passed."""

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

_LONGEST_S = 1800  # one file; what takes longer hangs
_AT_ONCE = max(2, (os.cpu_count() or 1) + 2)  # many tests wait for a screen most of the time
_SLOW_FIRST = (
    "test_kept",
    "test_everything_screen",
    "test_live",
    "test_storm",
    "test_write_screen",
    "test_disturbed",
    "test_redrawn",
    "test_commands",
    "test_everything",
    "test_survey",
    "test_screen",
    "test_find_screen",
    "test_wire_screen",
    "test_when",
    "test_case",
    "test_paper",
    "test_record",
    "test_rows",
    "test_map",
    "test_engine",
    "test_map_screen",
)


def _run(name: str) -> tuple[str, float, str, int]:
    """One file: its name, seconds, what it printed, its exit code."""
    start = time.monotonic()
    command = [sys.executable, "-m", "unittest", f"tests.{name}"]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=_LONGEST_S, stdin=subprocess.DEVNULL)
    except subprocess.TimeoutExpired:
        return name, _LONGEST_S, f"it did not end within {_LONGEST_S} s\n", 1
    return name, time.monotonic() - start, done.stdout + done.stderr, done.returncode


def main() -> int:
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*.py"
    names = sorted(path.stem for path in Path(__file__).parent.glob(pattern))
    names.sort(key=lambda name: _SLOW_FIRST.index(name) if name in _SLOW_FIRST else len(_SLOW_FIRST))
    ran = failed = skipped = 0
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for done in as_completed([pool.submit(_run, name) for name in names]):
            name, took_s, text, code = done.result()
            counted = re.search(r"^Ran (\d+) tests? in", text, re.MULTILINE)
            bad = sum(int(number) for number in re.findall(r"(?:failures|errors|unexpected successes)=(\d+)", text))
            passed_by = re.findall(r"skipped=(\d+)", text)
            ran += int(counted[1]) if counted else 0
            failed += max(bad, 1) if code else 0
            skipped += int(passed_by[-1]) if passed_by else 0
            print(
                f"{name}: {counted[1] if counted else 'no'} tests in {took_s:.0f} s{', FAILED' if code else ''}",
                flush=True,
            )
            if code:
                print(text, flush=True)
            for told in re.findall(r"^\W*(rows of the standard.*|left out: .*)$", text, re.MULTILINE):
                print(told, flush=True)
    passed = ran - failed - skipped
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or passed <= 0 else 0


if __name__ == "__main__":
    sys.exit(main())
