"""A terminal that takes two kilobytes a second, as over a radio link: keys are acted on in time all the same."""

import fcntl
import os
import pty
import select
import struct
import subprocess
import sys
import termios
import time
import unittest

_RATE = 4096


class Slow(unittest.TestCase):
    def test_a_key_is_answered_while_the_terminal_is_slow(self) -> None:
        near, far = pty.openpty()
        fcntl.ioctl(far, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
        process = subprocess.Popen([sys.executable, "-m", "kanaleto", "demo"], stdin=far, stdout=far, stderr=far)
        os.close(far)
        try:
            seen = self._read(near, b"busy", 60, 1 << 20)
            self._read(near, None, 4, 1 << 20)  # it has painted itself
            self._read(near, None, 15, _RATE)  # it would be far behind by now
            start = time.monotonic()
            os.write(near, b"4")
            seen = self._read(near, b"outcome", 60, _RATE)
            self.assertTrue(b"outcome" in seen, "Wire was never seen")
            self.assertLess(time.monotonic() - start, 15)  # a whole screen takes four seconds at that rate
            os.write(near, b"qq")
            self._read(near, None, 30, 1 << 20, lambda: process.poll() is not None)
            self.assertEqual(process.wait(30), 0)
        finally:
            process.kill()
            process.wait()
            os.close(near)

    def _read(self, near: int, text: bytes | None, for_s: float, rate: int, is_over=lambda: False) -> bytes:  # type: ignore[no-untyped-def]
        """What comes at that rate until `text` does."""
        seen, start = b"", time.monotonic()
        while time.monotonic() - start < for_s and not (text is not None and text in seen) and not is_over():
            allowed = int((time.monotonic() - start) * rate) - len(seen)
            if allowed < 256:
                time.sleep(0.02)
            elif select.select([near], [], [], 0.05)[0]:
                try:
                    seen += os.read(near, min(allowed, 65536))
                except OSError:
                    return seen
        return seen
