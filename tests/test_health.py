"""`--health`: how a service does, over HTTP of the test's own."""

import json
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from kanaleto.cli.health import HealthFigure, parse_place, text_of
from tests.test_bench import free_port


def get(port: int, path: str, method: str = "GET") -> tuple[int, str]:
    with socket.create_connection(("127.0.0.1", port), 10) as link:
        link.settimeout(10)
        link.sendall(f"{method} {path} HTTP/1.1\r\nHost: x\r\n\r\n".encode())
        answer = b"".join(iter(lambda: link.recv(4096), b"")).decode()
    head, _, body = answer.partition("\r\n\r\n")
    return int(head.split()[1]), body


class Health(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(held.cleanup)
        self.folder, self.port, self.at = Path(held.name), free_port(), free_port()
        (self.folder / "m.csv").write_text("name,table,address,initial\nA,holding,0,7\n")
        (self.folder / "site.toml").write_text(
            f'[site]\nname = "S"\nperiod_s = 0.1\n[[line]]\nname = "L \\"one\\""\nlink = "tcp://127.0.0.1:{self.port}"\n'
            'timeout_s = 0.3\n[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'
        )

    def run_command(self, *arguments: str) -> "subprocess.Popen[str]":
        process = subprocess.Popen(
            [sys.executable, "-m", "kanaleto.cli", *arguments], cwd=self.folder, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(process.communicate)
        self.addCleanup(process.kill)
        return process

    def until(self, path: str, status: int) -> str:
        end = time.monotonic() + 60
        while True:
            try:
                code, body = get(self.at, path)
            except OSError:
                code, body = 0, ""
            if code == status:
                return body
            self.assertLess(time.monotonic(), end, f"{path} did not become {status}: {code} {body}")
            time.sleep(0.1)

    def test_what_is_polled_is_well_until_its_far_end_goes(self) -> None:
        polling = self.run_command("poll", "site.toml", "--quiet", "--health", str(self.at))
        self.assertIn("NOT WELL  L", self.until("/", 503))
        serving = self.run_command("serve", "site.toml")
        self.assertRegex(self.until("/", 200), r'well  L "one": \d+ % busy')
        code, text = get(self.at, "/metrics")
        self.assertEqual(code, 200)
        self.assertIn('kanaleto_line_up{line="L \\"one\\""} 1\n', text)
        self.assertRegex(text, r'kanaleto_exchanges_total\{line="L .*",device="D",outcome="good"\} [1-9]')
        self.assertRegex(text, r'kanaleto_answer_seconds\{.*quantile="0.95"\} [0-9.e-]+')
        self.assertEqual((get(self.at, "/x")[0], get(self.at, "/", "POST")[0]), (404, 405))
        self.assertEqual(get(self.at, "/metrics", "HEAD")[1], "")
        slow = [socket.create_connection(("127.0.0.1", self.at)) for _ in range(50)]
        for one in slow:
            one.close()
        serving.send_signal(signal.SIGTERM)
        self.assertIn("NOT WELL", self.until("/", 503))
        polling.send_signal(signal.SIGTERM)
        polling.communicate(timeout=30)

    def test_what_is_served(self) -> None:
        self.run_command("serve", "site.toml", "--health", f"127.0.0.1:{self.at}")
        self.assertIn("served at tcp://127.0.0.1", self.until("/", 200))
        self.assertIn("kanaleto_moves_late_seconds_total 0", self.until("/metrics", 200))

    def test_a_place_that_is_none_or_taken(self) -> None:
        for text in ("x", "127.0.0.1", "127.0.0.1:99999", ":"):
            with self.subTest(text), self.assertRaisesRegex(ValueError, "HOST:PORT"):
                parse_place(text)
        self.assertEqual(
            [parse_place(text)[0] for text in ("9100", ":9100", "[::1]:9100")], ["127.0.0.1"] * 2 + ["::1"]
        )
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", self.at))
            taken.listen()
            serving = self.run_command("serve", "site.toml", "--health", str(self.at))
            _, message = serving.communicate(timeout=60)
        self.assertEqual((serving.returncode, message.count("cannot be bound")), (1, 1), message)

    def test_no_more_than_so_many_series(self) -> None:
        text = text_of(HealthFigure("kanaleto_line_up", (("line", json.dumps(n)),), 1.0) for n in range(5000))
        self.assertEqual(text.count("kanaleto_line_up{"), 2000)


if __name__ == "__main__":
    unittest.main()
