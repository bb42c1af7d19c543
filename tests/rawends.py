"""Ends of links that share nothing with the product: check bytes, frames and sockets of their own, from the open
standard alone. Used to hold both of our ends against it."""

import contextlib
import os
import select
import socket
import ssl
import termios
import threading
import time
import tty
from collections.abc import Callable

Handler = Callable[[int, bytes], bytes | None]
"""A slave: unit and PDU of a request to the PDU of its answer."""

_CHARACTER_S = 11 / 115200


def crc(data: bytes) -> bytes:
    """Serial line 1.02, 6.2.2, bit by bit."""
    register = 0xFFFF
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = (register >> 1) ^ 0xA001 if register & 1 else register >> 1
    return bytes((register & 0xFF, register >> 8))


def framed(kind: str, unit: int, pdu: bytes, transaction: int = 1, end: bytes = b"\n") -> bytes:
    body = bytes((unit,)) + pdu
    if kind == "rtu":
        return body + crc(body)
    if kind == "ascii":
        return b":" + (body + bytes(((256 - sum(body) % 256) % 256,))).hex().upper().encode() + b"\r" + end
    return transaction.to_bytes(2, "big") + b"\0\0" + len(body).to_bytes(2, "big") + body


def unframed(kind: str, raw: bytes) -> tuple[int, int, bytes] | None:
    """Transaction, unit and PDU of a whole frame; None for anything else."""
    if kind == "rtu":
        return (0, raw[0], raw[1:-2]) if len(raw) >= 4 and crc(raw[:-2]) == raw[-2:] else None
    if kind == "ascii":
        if raw[:1] != b":" or raw[-2:-1] != b"\r" or len(raw) < 9:
            return None
        body = bytes.fromhex(raw[1:-2].decode())
        return (0, body[0], body[1:-1]) if sum(body) % 256 == 0 else None
    if len(raw) < 8 or raw[2:4] != b"\0\0" or int.from_bytes(raw[4:6], "big") != len(raw) - 6:
        return None
    return int.from_bytes(raw[:2], "big"), raw[6], raw[7:]


def settings_of(text: str) -> tuple[str, str]:
    """Kind of framing and carrier of a link's text."""
    scheme = text.partition("://")[0]
    return {
        "tcp": ("tcp", "tcp"), "udp": ("tcp", "udp"), "tls": ("tcp", "tls"), "rtu+tcp": ("rtu", "tcp"),
        "ascii+tcp": ("ascii", "tcp"), "rtu": ("rtu", "serial"), "ascii": ("ascii", "serial"),
    }[scheme]  # fmt: skip


class RawMaster:
    """Asks over a link, byte for byte."""

    def __init__(self, text: str, port: int = 0, path: str = "", baud: int = 0, context: ssl.SSLContext | None = None):
        self.kind, carrier = settings_of(text)
        self._transaction = 0
        self._socket: socket.socket | None = None
        if carrier == "serial":
            self._fd = os.open(path, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
            tty.setraw(self._fd)
            if baud:
                attributes = termios.tcgetattr(self._fd)
                attributes[4] = attributes[5] = getattr(termios, f"B{baud}")
                termios.tcsetattr(self._fd, termios.TCSANOW, attributes)
            return
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM if carrier == "udp" else socket.SOCK_STREAM)
        self._socket.settimeout(5)
        self._socket.connect(("127.0.0.1", port))
        if carrier == "tls":
            assert context is not None
            self._socket = context.wrap_socket(self._socket)
        self._fd = self._socket.fileno()

    def close(self) -> None:
        if self._socket is not None:
            self._socket.close()
        else:
            os.close(self._fd)

    def send(self, data: bytes) -> None:
        if self._socket is not None:
            self._socket.sendall(data)
        else:
            os.write(self._fd, data)

    def receive(self, for_s: float) -> bytes:
        """What comes within `for_s`, at once when there is something."""
        if isinstance(self._socket, ssl.SSLSocket) and self._socket.pending():
            return self._socket.recv(1000)
        if not select.select([self._fd], [], [], for_s)[0]:
            return b""
        return self._socket.recv(1000) if self._socket is not None else os.read(self._fd, 1000)

    def ask(
        self, unit: int, pdu: bytes, expects: bool = True, end: bytes = b"\n", silent_s: float = 0.12
    ) -> bytes | None:
        """The PDU that answers, checked to be whole, of the same unit and transaction; None when nothing came."""
        self._transaction += 1
        self.send(framed(self.kind, unit, pdu, self._transaction, end))
        return self.answer(unit, expects, silent_s)

    def answer(self, unit: int, expects: bool = True, silent_s: float = 0.12) -> bytes | None:
        came, until = b"", time.monotonic() + (5 if expects else silent_s)
        while (left := until - time.monotonic()) > 0:
            came += self.receive(left)
            found = unframed(self.kind, came)
            if found is not None:
                transaction, of, answer = found
                assert of == unit and (self.kind != "tcp" or transaction == self._transaction), (found, unit)
                return answer
        assert not came, f"no frame: {came.hex(' ')}"
        return None


class RawSlave:
    """Answers over a link by `handler`, byte for byte; serial ones are taken to run at 115 200 baud."""

    def __init__(self, text: str, path: str = "", context: ssl.SSLContext | None = None) -> None:
        self.kind, self._carrier = settings_of(text)
        self.handler: Handler = lambda unit, pdu: None
        self.seen: list[tuple[int, bytes]] = []
        self.port = 0
        self._context = context
        self._is_over = False
        if self._carrier == "serial":
            self._near, self._far = os.openpty()
            for descriptor in (self._near, self._far):
                tty.setraw(descriptor)
            os.symlink(os.ttyname(self._far), path)
        else:
            kind = socket.SOCK_DGRAM if self._carrier == "udp" else socket.SOCK_STREAM
            self._listening = socket.socket(socket.AF_INET, kind)
            self._listening.bind(("127.0.0.1", 0))
            self.port = self._listening.getsockname()[1]
            if self._carrier != "udp":
                self._listening.listen()
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._is_over = True
        self._thread.join(5)
        if self._carrier == "serial":
            os.close(self._near)
            os.close(self._far)
        else:
            self._listening.close()

    def _answers(self, raw: bytes) -> bytes | None:
        """What goes out for a whole request; None while it is not one."""
        found = unframed(self.kind, raw)
        if found is None:
            return None
        transaction, unit, pdu = found
        self.seen.append((unit, pdu))
        answer = self.handler(unit, pdu)
        return framed(self.kind, unit, answer, transaction) if answer is not None else b""

    def _work(self) -> None:
        with contextlib.suppress(OSError):
            if self._carrier == "serial":
                self._talk(lambda: os.read(self._near, 1000), lambda data: os.write(self._near, data), self._near)
            elif self._carrier == "udp":
                while not self._is_over:
                    if select.select([self._listening], [], [], 0.05)[0]:
                        data, host = self._listening.recvfrom(1000)
                        answer = self._answers(data)
                        if answer:
                            self._listening.sendto(answer, host)
            else:
                while not self._is_over:
                    if select.select([self._listening], [], [], 0.05)[0]:
                        connection, _ = self._listening.accept()
                        if self._context is not None:
                            connection = self._context.wrap_socket(connection, server_side=True)
                        with connection:
                            self._talk(lambda one=connection: one.recv(1000), connection.sendall, connection)  # type: ignore[misc]

    def _talk(self, read: Callable[[], bytes], write: Callable[[bytes], object], wait_on: int | socket.socket) -> None:
        held = b""
        while not self._is_over:
            if not select.select([wait_on], [], [], 0.05)[0]:
                continue
            data = read()
            if not data:
                return
            held += data
            answer = self._answers(held)
            if answer is not None:
                if self._carrier == "serial":
                    time.sleep((len(held) + 4) * _CHARACTER_S)  # what has not arrived yet cannot be answered
                held = b""
                write(answer)
