"""The application on a pseudo-terminal of 160 × 47, with what it writes counted."""

import fcntl
import os
import pty
import select
import struct
import subprocess
import sys
import termios
import time

import psutil

_COLUMNS, _ROWS = 160, 47


class OnTerminal:
    """`kanaleto WORDS`, whose terminal takes everything at once."""

    def __init__(self, *words: str) -> None:
        self._near, far = pty.openpty()
        fcntl.ioctl(far, termios.TIOCSWINSZ, struct.pack("HHHH", _ROWS, _COLUMNS, 0, 0))
        self.began = time.perf_counter()
        self.process = subprocess.Popen([sys.executable, "-m", "kanaleto", *words], stdin=far, stdout=far, stderr=far)
        os.close(far)
        self.seen = b""

    def read_for(self, seconds: float) -> int:
        """How many bytes come in so long."""
        end, count = time.perf_counter() + seconds, 0
        while (left := end - time.perf_counter()) > 0:
            if select.select([self._near], [], [], left)[0]:
                data = os.read(self._near, 65536)
                count += len(data)
                self.seen = (self.seen + data)[-200_000:]
        return count

    def read_until(self, text: bytes, longest_s: float = 60.0) -> float:
        """When it has been seen, in seconds since the start."""
        while text not in self.seen and time.perf_counter() - self.began < longest_s:
            self.read_for(0.005)
        return time.perf_counter() - self.began

    def first_answer_s(self, key: bytes, longest_s: float = 2.0) -> float:
        """From a key to the last byte of the frame that it makes: bytes, then 15 ms without any."""
        self.read_for(0.0)
        start = last = time.perf_counter()
        os.write(self._near, key)
        has_begun = False
        while time.perf_counter() - start < longest_s:
            if select.select([self._near], [], [], 0.015 if has_begun else longest_s)[0]:
                os.read(self._near, 65536)
                last, has_begun = time.perf_counter(), True
            else:
                break
        return last - start

    def press(self, keys: bytes) -> None:
        os.write(self._near, keys)

    def screen_cpu_s(self) -> float:
        """Processor time of the screen's thread, the first of the process."""
        threads = psutil.Process(self.process.pid).threads()
        return next((one.user_time + one.system_time for one in threads if one.id == self.process.pid), 0.0)

    def close(self) -> None:
        self.press(b"qq")
        end = time.perf_counter() + 20
        while self.process.poll() is None and time.perf_counter() < end:
            if select.select([self._near], [], [], 0.1)[0]:
                try:
                    os.read(self._near, 65536)
                except OSError:
                    break
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()
        os.close(self._near)
