"""Text of others never acts on a terminal: neither on the screen nor in what commands print."""

import fcntl
import json
import os
import pty
import re
import select
import socketserver
import struct
import subprocess
import sys
import tempfile
import termios
import threading
import time
import unicodedata
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.values.visible import MOST_MARKS, escaped, visible
from tests.servers import Server, take

TITLE, CLEAR, C1, BIDI, LINE = "\x1b]0;FORGED\x07", "\x1b[2J", "\x9b31m", "\u202eDNE", "a\nFORGED LINE"
STACKED = "Z" + "\u0301" * 40
HOSTILE = f"{TITLE}{CLEAR}{C1}{BIDI}{STACKED}\x7f"
FORBIDDEN = [
    TITLE.encode(), b"\x1b]0;FORGED", b"FORGED\x07", C1.encode(), b"\x9b31m", "\u202e".encode(), b"\x1b[2JFORGED",
    ("\u0301" * (MOST_MARKS + 1)).encode(), b"\nFORGED LINE", b"\x7f",
]  # fmt: skip


def words_of(text: str) -> bytes:
    data = text.encode()
    return data + b"\0" * (len(data) % 2)


class _Hostile(socketserver.BaseRequestHandler):
    """Everything it says of itself, and every register, would act on a terminal."""

    def handle(self) -> None:
        said = HOSTILE.encode()[:200]
        while head := take(self.request, 8):
            (rest,) = struct.unpack(">H", head[4:6])
            body = take(self.request, rest - 2)
            function = head[7]
            if function == 0x2B:
                answer = bytes((0x2B, 0x0E, body[1], 0x01, 0, 0, 3)) + b"".join(
                    bytes((number, 60)) + (TITLE + BIDI + "x" * 60).encode()[:60] for number in range(3)
                )
            elif function == 0x11:
                answer = bytes((0x11, len(said) + 1)) + said + b"\xff"
            elif function in (3, 4):
                count = struct.unpack(">H", body[2:4])[0] * 2
                text = (words_of(HOSTILE) + b"\0" * count)[:count]
                answer = bytes((function, count)) + text
            else:
                answer = bytes((function | 0x80, 1))
            self.request.sendall(head[:4] + struct.pack(">HB", len(answer) + 1, head[6]) + answer)


def site_of(folder: Path, port: int) -> Path:
    """A site whose every name would act on a terminal, on disk under such a name as well."""
    path = folder / f"s{TITLE}.toml"
    name = json.dumps(HOSTILE)[1:-1]
    (folder / "m.csv").write_text(
        f'name,table,address,type,unit,note\n"P{TITLE}{BIDI}",holding,0,text:60,"{C1}",{CLEAR}\n'
        f'"{LINE}",holding,60,text:20,,\n',
        newline="",
    )
    path.write_text(
        f'[site]\nname = "{name}"\nperiod_s = 0.2\n[[line]]\nname = "L{name}"\nlink = "tcp://127.0.0.1:{port}"\n'
        f'[[line.device]]\nname = "D{name}"\nunit_id = 1\nmap = "m.csv"\n'
    )
    return path


class Hostile(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        server = Server(("127.0.0.1", 0), _Hostile)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.port = server.server_address[1]
        self.environment = os.environ | {"TERM": "xterm-256color", "COLORTERM": "truecolor", "PYTHONUTF8": "1"}
        self.environment |= {f"XDG_{name}_HOME": f"{self.folder}/{name}" for name in ("DATA", "STATE", "CONFIG")}

    def assert_harmless(self, out: bytes, what: object) -> None:
        for forbidden in FORBIDDEN:
            self.assertNotIn(forbidden, out, what)

    def run_command(self, *arguments: str) -> bytes:
        done = subprocess.run(
            [sys.executable, "-m", "kanaleto", *arguments], capture_output=True, timeout=300, env=self.environment
        )
        return done.stdout + done.stderr

    def test_what_commands_print(self) -> None:
        site, link = site_of(self.folder, self.port), f"tcp://127.0.0.1:{self.port}"
        (self.folder / "bad.csv").write_text(f'name,table,address,type\n"{TITLE}{BIDI}",{C1},1,{CLEAR}\n')
        for arguments in (
            ("identify", link), ("identify", link, "--json"), ("read", link, "holding", "0", "--type", "text:60"),
            ("read", link, "holding", "0", "--type", "text:60", "--json"), ("check", str(site)),
            ("check", str(self.folder / "bad.csv")), ("check", f"no{TITLE}{BIDI}.toml"), (f"no{TITLE}",),
            ("read", f"tcp://{TITLE}{BIDI}", "holding", "0"), ("find", link, "--units", "1"),
            ("find", link, "--units", "1", "--json"), ("poll", str(site), "--for", "1"),
            ("poll", str(site), "--for", "1", "--json"), (f"--{TITLE}",),
            ("read", link, "holding", "0", "--type", TITLE),
        ):  # fmt: skip
            out = self.run_command(*arguments)
            self.assertTrue(out)
            self.assert_harmless(out, (arguments, out))
            if "--json" in arguments:
                lines = [line for line in out.decode().split("\n") if line.startswith("{")]
                self.assertTrue(any("FORGED" in json.dumps(json.loads(line)) for line in lines), out)
        self.assertIn("␛]0;FORGED␇", self.run_command("identify", link).decode())

    def test_an_output_that_cannot_encode_ends_nothing(self) -> None:
        site = site_of(self.folder, self.port)
        self.environment |= {"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"}
        for json_too in ((), ("--json",)):
            out = self.run_command("poll", str(site), "--for", "1", *json_too)
            self.assertNotIn(b"error of its own", out)
            self.assertIn(b"FORGED", out)
            self.assertTrue(out.isascii())

    def test_what_the_application_writes(self) -> None:
        seen = ["2", "\r", "3", "\r", "4", "\r", "1", "g", "\t", "\r", "?", "2"]
        asked = ["c", "\x15", "\r", "\x1b", "\x10", "FORGED", "\x1b", "3"]
        out = self.drive(site_of(self.folder, self.port), [*seen, *asked])
        self.assert_harmless(out, "the screen")
        text = re.sub(rb"\x1b\[[0-9;?<>=]*[a-zA-Z]", b"", out).decode(errors="replace")
        self.assertIn("␛]0;FORGED␇", text)
        self.assertIn("⟨202E⟩", text)
        self.assertIn("⟨9B⟩31m", text)

    def drive(self, site: Path, keys: list[str]) -> bytes:
        """Run the application on a terminal of our own; gives every byte that it writes."""
        ours, theirs = pty.openpty()
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
        with subprocess.Popen(
            [sys.executable, "-m", "kanaleto", str(site)], stdin=theirs, stdout=theirs, stderr=theirs,
            env=self.environment, start_new_session=True,
        ) as process:  # fmt: skip
            os.close(theirs)
            out = b""
            try:
                out += self._written(ours, until="␛]0;FORGED".encode(), within_s=60)
                for key in keys:
                    os.write(ours, key.encode())
                    out += self._written(ours, within_s=0.5)
                os.write(ours, b"\x11")
                out += self._written(ours, within_s=20)
            finally:
                process.kill()
                os.close(ours)
        return out

    def _written(self, terminal: int, within_s: float, until: bytes | None = None) -> bytes:
        out, end = b"", time.monotonic() + within_s
        while (left := end - time.monotonic()) > 0 and not (until and until in out):
            if select.select([terminal], [], [], left)[0]:
                try:
                    out += os.read(terminal, 65536)
                except OSError:  # it has ended
                    break
        return out


class AnyText(unittest.TestCase):
    @given(st.text() | st.text(st.characters(categories=["Cc", "Cf", "Mn", "Cs", "Zl", "Zp"])))
    def test_nothing_acts_and_json_reads_back_the_same(self, text: str) -> None:
        shown = visible(text)
        categories = [unicodedata.category(character) for character in shown]
        self.assertFalse({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"} & set(categories), repr(shown))
        self.assertIsNone(
            re.search("M" * (MOST_MARKS + 1), "".join("M" if one in ("Mn", "Me") else "-" for one in categories))
        )
        self.assertEqual(visible(shown), shown)
        json_text = escaped(json.dumps(text, ensure_ascii=False))
        pairs = text.encode("utf-16", "surrogatepass").decode("utf-16", "surrogatepass")  # two halves are one
        self.assertEqual(json.loads(json_text), pairs)
        self.assertEqual(json_text.encode().decode(), json_text)  # nothing left that no encoding has

    def test_what_people_write_stays_as_it_is(self) -> None:
        for text in ("Pegel 3,5 °C · Öltemperatur", "Ωμέγα", "Уровень", "水位", "é", "a\u0301", "→ ▸ ● ✕ µ ² ½"):
            self.assertEqual(visible(text), text)
