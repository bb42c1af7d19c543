"""Servers and the engine with far ends that mean harm, or have lost their mind: nobody else pays for it."""

import asyncio
import contextlib
import fcntl
import os
import pty
import resource
import select
import signal
import struct
import subprocess
import sys
import tempfile
import termios
import time
import tty
import unittest
from pathlib import Path
from unittest import mock

from kanaleto.lines.exchange import MOST_BABBLE, Exchanger
from kanaleto.lines.openfiles import raise_limit
from kanaleto.lines.opening import channel_for, framing_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.serving import network
from kanaleto.serving.admission import IDLE_S, MOST_HANDSHAKES, Admission
from kanaleto.serving.answerer import NOBODY, Answerer, Master
from kanaleto.serving.hearing import Heard, Hearing
from kanaleto.serving.network import CannotServe, NetworkServer
from kanaleto.serving.port import PortServer
from kanaleto.serving.portlink import PortLink
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.bridges import TlsServing
from kanaleto.site.links.link import FramingKind, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer
from kanaleto.wire.rtu import Rtu
from tests.test_bench import free_port
from tests.test_tls import WithCertificates


class Own(Answerer):
    """Every register holds its own address."""

    name, garbled = "Own", 0

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> bytes:
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        return bytes((pdu[0], 2 * count)) + b"".join(word.to_bytes(2) for word in range(first, first + count))

    def note_garbled(self) -> None:
        self.garbled += 1


class Same(Own):
    """Confirms each write by repeating it."""

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> bytes:
        return pdu


class _Client:
    """Stands for a transport."""

    def __init__(self, number: int) -> None:
        self.number, self.is_gone = number, False

    def get_extra_info(self, name: str) -> object:
        return ("192.0.2.1", self.number)

    def abort(self) -> None:
        self.is_gone = True


class Places(unittest.TestCase):
    def setUp(self) -> None:
        self.now_s = 1000.0
        self.told: list[str] = []
        self.places = Admission("Line", lambda: self.now_s, most=3)
        self.places.on_client = self.told.append

    def come(self, *numbers: int) -> list[_Client]:
        clients = [_Client(number) for number in numbers]
        for client in clients:
            self.places.admit(client)  # type: ignore[arg-type]
        return clients

    def test_those_that_never_asked_go_first(self) -> None:
        one, two, three = self.come(1, 2, 3)
        self.places.note_use(one)  # type: ignore[arg-type]
        self.come(4)
        self.assertEqual([one.is_gone, two.is_gone, three.is_gone], [False, True, False])
        self.assertEqual(
            self.told, ["Line: 192.0.2.1:2 was cut off: it never asked anything, and others want its place"]
        )

    def test_a_client_that_polls_is_never_cut_off(self) -> None:
        polling = self.come(1, 2, 3)
        for client in polling:
            self.places.note_use(client)  # type: ignore[arg-type]
        (new,) = self.come(4)
        self.assertTrue(new.is_gone)
        self.assertFalse(any(client.is_gone for client in polling))
        self.assertIn("all 3 places are taken by clients that poll", self.told[0])
        self.now_s += IDLE_S + 1
        for client in polling[1:]:
            self.places.note_use(client)  # type: ignore[arg-type]
        (newer,) = self.come(5)
        self.assertEqual([client.is_gone for client in (*polling, newer)], [True, False, False, False])

    def test_a_thousand_of_the_same_are_a_few_lines(self) -> None:
        for number in range(3):
            for client in self.come(number):
                self.places.note_use(client)  # type: ignore[arg-type]
        self.come(*range(1000))
        self.assertEqual(len(self.told), 1)
        self.now_s += 11
        self.come(5)
        self.assertIn("(999 more times since)", self.told[-1])


class Networks(WithCertificates):
    def test_handshakes_are_counted_and_end(self) -> None:
        async def work() -> list[str]:
            files = {name: self.folder / f"server.{name}" for name in ("pem", "key")}
            link = TcpLink("127.0.0.1", free_port())
            server = NetworkServer(
                Own(), framing_of(link), link.host, link.port, TlsServing(files["pem"], files["key"])
            )
            texts: list[str] = []
            server.admission.on_client = texts.append
            await server.start()
            silent = [await asyncio.open_connection(link.host, link.port) for _ in range(MOST_HANDSHAKES + 40)]
            await asyncio.sleep(0.2)
            self.assertLessEqual(len(server.admission.connections), MOST_HANDSHAKES)
            _, writer = await asyncio.open_connection(link.host, link.port)
            writer.write(b"GET / HTTP/1.1\r\n\r\n" * 10)
            end = time.monotonic() + 60
            while server.admission.connections:
                self.assertLess(time.monotonic(), end)
                await asyncio.sleep(0.1)
            for _, writer in silent:
                writer.close()
            await server.stop()
            return texts

        with mock.patch.object(network, "HANDSHAKE_S", 1.0):
            texts = asyncio.run(work())
        self.assertTrue(any("handshakes are under way" in line for line in texts), texts)
        self.assertTrue(any("no secure connection" in line for line in texts), texts)
        self.assertLess(len(texts), 8)

    def test_a_polling_client_among_many_that_only_connect(self) -> None:
        async def work() -> list[OutcomeKind]:
            link = TcpLink("127.0.0.1", free_port())
            server = NetworkServer(Own(), framing_of(link), link.host, link.port)
            server.admission = Admission("Own", most=20)
            await server.start()
            exchanger = Exchanger(channel_for(link, 5), framing_of(link))
            await exchanger.open()
            kinds = []
            for _ in range(60):
                outcome = await exchanger.ask(1, Read(Table.HOLDING, 7, 2), 2.0)
                kinds.append(outcome.kind)
                assert isinstance(outcome.content, ReadAnswer)
                self.assertEqual(outcome.content.words, (7, 8))
                await asyncio.open_connection(link.host, link.port)
            exchanger.close()
            await server.stop()
            return kinds

        self.assertEqual(set(asyncio.run(work())), {OutcomeKind.GOOD})

    def test_noise_is_cut_off_before_it_costs_others_anything(self) -> None:
        for framing in FramingKind.RTU, FramingKind.ASCII:
            for noise in os.urandom(1 << 20), b"\x01\x10" * (1 << 19), b":" * (1 << 20):
                asyncio.run(self._noise(framing, noise))

    async def _noise(self, framing: FramingKind, noise: bytes) -> None:
        own, texts = Own(), list[str]()
        link = TcpLink("127.0.0.1", 0, framing)
        server = NetworkServer(own, framing_of(link), "127.0.0.1", 0)
        server.admission.on_client = texts.append
        await server.start()
        fed = 0

        class Counting:
            """What was looked at of it."""

            def __init__(self, inner: Hearing) -> None:
                self._inner = inner

            def take(self, data: bytes, silence_s: float = 0.0) -> list[Heard]:
                nonlocal fed
                fed += len(data)
                return self._inner.take(data, silence_s)

            def __getattr__(self, name: str) -> object:
                return getattr(self._inner, name)

        with mock.patch.object(network, "Hearing", lambda *arguments: Counting(Hearing(*arguments))):
            reader, writer = await asyncio.open_connection("127.0.0.1", server.port)
            with contextlib.suppress(OSError):
                writer.write(noise)
                await asyncio.wait_for(writer.drain(), 10)
                await asyncio.wait_for(reader.read(), 10)
            writer.close()
        await server.stop()
        self.assertLess(fed, 16_384)
        self.assertIn(f"bytes came that are no {framing.value.upper()} framing", texts[0])

    def test_the_limit_of_open_files_is_raised(self) -> None:
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        self.addCleanup(resource.setrlimit, resource.RLIMIT_NOFILE, (soft, hard))
        resource.setrlimit(resource.RLIMIT_NOFILE, (200, hard))
        self.assertGreater(raise_limit(), 200)
        self.assertGreater(resource.getrlimit(resource.RLIMIT_NOFILE)[0], 200)

    def test_a_babbling_far_end_costs_little_and_is_connected_again(self) -> None:
        for framing, noise in (
            (FramingKind.RTU, os.urandom(4096)),
            (FramingKind.TCP, b"\3\xe7\0\0\0\5\1\3\2\0\1" * 400),
        ):
            with self.subTest(framing.value):
                asyncio.run(self._babble(framing, noise))

    async def _babble(self, framing: FramingKind, noise: bytes) -> None:
        async def babble(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            try:
                while True:
                    writer.write(noise)
                    await writer.drain()
            except (ConnectionError, asyncio.CancelledError):
                writer.close()

        server = await asyncio.start_server(babble, "127.0.0.1", 0)
        link = TcpLink("127.0.0.1", server.sockets[0].getsockname()[1], framing)
        exchanger = Exchanger(channel_for(link, 5), framing_of(link))
        await exchanger.open()
        outcome = await exchanger.ask(1, Read(Table.HOLDING, 7, 2), 5.0)
        self.assertFalse(outcome.is_good)
        self.assertIn("babbles", exchanger.lost_because)
        self.assertLess(exchanger.traffic.received, MOST_BABBLE + 8192)
        self.assertFalse(exchanger.is_open)
        server.close()


class OnATerminal(unittest.TestCase):
    """The folder of these is the user's own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.port = self.folder / "port"

    async def _served(self) -> TerminalServer:
        server = TerminalServer(Own(), Rtu(), SerialLink(str(self.port), SerialSettings(baud=19200)))
        await server.start()
        return server

    def _ask(self, port: int) -> bytes:
        os.write(port, Rtu().encode(1, Read(Table.HOLDING, 7, 2).encode()))
        came, end = b"", time.monotonic() + 5
        while len(came) < 9 and time.monotonic() < end:
            if select.select([port], [], [], 0.1)[0]:
                came += os.read(port, 256)
        return came

    async def _until_right(self, port: int) -> None:
        """Soon it is as it should be; how soon is a matter of the machine, but not of minutes."""
        began = time.monotonic()
        while await asyncio.to_thread(self._ask, port) != self.RIGHT:
            self.assertLess(time.monotonic() - began, 100)

    RIGHT = Rtu().encode(1, bytes((3, 4, 0, 7, 0, 8)))

    def test_noise_costs_the_time_of_a_bounded_backlog(self) -> None:
        async def work() -> None:
            server = await self._served()
            port = os.open(self.port, os.O_RDWR | os.O_NOCTTY)
            noise = os.urandom(1_000_000)
            sent = await asyncio.to_thread(
                lambda: [os.write(port, noise[at : at + 4000]) for at in range(0, 10**6, 4000)]
            )
            self.assertEqual(sum(sent), 1_000_000)
            await asyncio.sleep(0.5)
            await self._until_right(port)
            os.close(port)
            await server.stop()

        asyncio.run(work())

    def test_a_master_that_never_reads_costs_the_next_nothing(self) -> None:
        async def work() -> None:
            server = await self._served()
            port = os.open(self.port, os.O_RDWR | os.O_NOCTTY)
            request = Rtu().encode(1, Read(Table.HOLDING, 0, 125).encode())
            for _ in range(30):  # 7 650 bytes, which nobody fetches
                os.write(port, request)
                await asyncio.sleep(0.16)
            os.close(port)
            port = os.open(self.port, os.O_RDWR | os.O_NOCTTY)
            await asyncio.sleep(0.3)
            while select.select([port], [], [], 0.2)[0]:
                os.read(port, 65536)
            await self._until_right(port)
            os.close(port)
            await server.stop()

        asyncio.run(work())

    def test_an_adapter_that_echoes_is_no_master(self) -> None:
        """SL 2.2: a slave answers its master, and never itself."""

        async def work() -> int:
            near, far = os.openpty()
            tty.setraw(near)
            tty.setraw(far)
            server = PortServer(Own(), Rtu(), SerialLink(os.ttyname(far), SerialSettings(baud=115200)))
            await server.start()
            answers = 0
            for _ in range(3):
                os.write(near, Rtu().encode(1, Read(Table.HOLDING, 3, 1).encode()))
                end = time.monotonic() + 1.5
                while time.monotonic() < end:
                    await asyncio.sleep(0.01)
                    if select.select([near], [], [], 0)[0]:
                        came = os.read(near, 4096)
                        answers += came.count(Rtu().encode(1, bytes((3, 2, 0, 3))))
                        os.write(near, came)  # as such an adapter does
            await server.stop()
            return answers

        self.assertEqual(asyncio.run(work()), 3)

    def test_a_master_may_write_the_same_again(self) -> None:
        async def work() -> int:
            near, far = os.openpty()
            tty.setraw(near)
            tty.setraw(far)
            server = PortServer(Same(), Rtu(), SerialLink(os.ttyname(far), SerialSettings(baud=115200)))
            await server.start()
            request = Rtu().encode(1, bytes((6, 0, 3, 0, 9)))
            answers = 0
            for _ in range(12):
                os.write(near, request)
                came, end = b"", time.monotonic() + 20
                while len(came) < len(request) and time.monotonic() < end:
                    await asyncio.sleep(0.005)
                    if select.select([near], [], [], 0)[0]:
                        came += os.read(near, 4096)
                answers += came == request
                await asyncio.sleep(0.05)
            await server.stop()
            return answers

        self.assertEqual(asyncio.run(work()), 12)

    def test_what_stands_at_the_place_of_our_marks_is_left_alone(self) -> None:
        users = self.folder / "letter.txt"
        users.write_text("dear friend")
        mark = self.folder / ".port.served"
        mark.symlink_to(users)
        with self.assertRaisesRegex(CannotServe, "symbolic link"):
            PortLink(str(self.port), "L").make("/dev/pts/99")
        self.assertEqual(users.read_text(), "dear friend")
        mark.unlink()
        os.link(users, mark)
        with self.assertRaisesRegex(CannotServe, "in the way"):
            PortLink(str(self.port), "L").make("/dev/pts/99")
        self.assertEqual(users.read_text(), "dear friend")
        mark.unlink()
        os.mkfifo(mark)
        with self.assertRaisesRegex(CannotServe, "in the way"):
            PortLink(str(self.port), "L").make("/dev/pts/99")

    def test_hanging_up_ends_in_good_order(self) -> None:
        (self.folder / "m.csv").write_text("name,table,address\nA,holding,1\n")
        site = self.folder / "s.toml"
        site.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "rtu://{self.port}"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'
        )
        environment = os.environ | {"TMPDIR": str(self.folder)}
        for number in (signal.SIGHUP, signal.SIGTERM):
            with subprocess.Popen(
                [sys.executable, "-m", "kanaleto", "serve", str(site)], stdout=subprocess.PIPE, env=environment
            ) as serving:
                assert serving.stdout is not None
                self.assertEqual(serving.stdout.readline(), b"ready\n")
                self.assertTrue(self.port.is_symlink())
                serving.send_signal(number)
                self.assertEqual(serving.wait(60), 0)
            self.assertFalse(self.port.is_symlink())
            left = sorted(path.name for path in self.folder.iterdir())
        self.assertEqual(left, ["m.csv", "s.kanaleto", "s.toml"])
        kept = sorted(path.name for path in (self.folder / "s.kanaleto").iterdir())
        self.assertEqual(kept, ["journal.db"], "what is kept, and no lock")

    def test_a_terminal_that_goes_away_takes_the_demo_with_it(self) -> None:
        environment = os.environ | {"TMPDIR": str(self.folder), "TERM": "xterm-256color"}
        environment |= {f"XDG_{name}_HOME": f"{self.folder}/{name}" for name in ("DATA", "STATE")}
        for after_s in (0.2, 1.0, None):  # before it has begun, while it begins, while it works
            with self.subTest(after_s=after_s):
                self._hang_up(environment, after_s)

    def _hang_up(self, environment: dict[str, str], after_s: float | None) -> None:
        pid, terminal = pty.fork()
        if pid == 0:
            fcntl.ioctl(1, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
            os.execve(sys.executable, [sys.executable, "-m", "kanaleto", "demo"], environment)
        came, end = b"", time.monotonic() + 120
        begun = time.monotonic()
        while b"Alder" not in came and time.monotonic() < (end if after_s is None else begun + after_s):
            if select.select([terminal], [], [], 0.1)[0]:
                came += os.read(terminal, 65536)
        os.close(terminal)  # which hangs up
        while os.waitpid(pid, os.WNOHANG)[0] == 0:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.1)
        self.assertEqual([path.name for path in self.folder.iterdir() if path.name.startswith("kanaleto-demo")], [])
