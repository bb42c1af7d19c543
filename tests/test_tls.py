"""TLS at both ends: certificates, roles, and what is told when they do not fit."""

import asyncio
import contextlib
import datetime
import socket
import ssl
import threading
import time

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.x509.oid import NameOID
from msgspec.structs import replace

from kanaleto.files.loading import load_site
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.tcp import TcpChannel
from kanaleto.lines.tls import ROLE_EXTENSION
from kanaleto.site.bridges import TlsServing
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.tcp import TcpLink, TlsFiles
from kanaleto.wire.pdu import Request, WriteRegister
from tests.test_bench import free_port
from tests.test_links import ASKED, InFolder, asked, check_answers, line_of


class WithCertificates(InFolder):
    """An authority, a server, and clients of some roles, in `folder`."""

    def setUp(self) -> None:
        super().setUp()
        self.authority_key = ec.generate_private_key(ec.SECP256R1())
        self.authority = self._certificate("authority", self.authority_key, None)
        (self.folder / "ca.pem").write_bytes(self.authority.public_bytes(serialization.Encoding.PEM))
        for name, role in (("server", None), ("operator", "operator"), ("viewer", "viewer"), ("nobody", None)):
            key = ec.generate_private_key(ec.SECP256R1())
            self._certificate(name, key, role)
        stranger = ec.generate_private_key(ec.SECP256R1())
        self._certificate("stranger", stranger, None, is_own=True)

    def _certificate(
        self, name: str, key: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey, role: str | None, is_own: bool = False,
        ends_days: int = 1,
    ) -> x509.Certificate:  # fmt: skip
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        is_authority = name == "authority"
        issuer = subject if is_authority or is_own else self.authority.subject
        now = datetime.datetime.now(datetime.UTC)
        builder = x509.CertificateBuilder().subject_name(subject).issuer_name(issuer).public_key(key.public_key())
        builder = builder.serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(9))
        builder = builder.not_valid_after(now + datetime.timedelta(ends_days))
        builder = builder.add_extension(x509.BasicConstraints(ca=is_authority, path_length=None), critical=True)
        if role is not None:
            value = bytes((0x0C, len(role))) + role.encode()
            builder = builder.add_extension(
                x509.UnrecognizedExtension(x509.ObjectIdentifier(ROLE_EXTENSION), value), critical=False
            )
        certificate = builder.sign(key if is_authority or is_own else self.authority_key, hashes.SHA256())
        pem = serialization.Encoding.PEM
        (self.folder / f"{name}.pem").write_bytes(certificate.public_bytes(pem))
        plain = serialization.NoEncryption()
        (self.folder / f"{name}.key").write_bytes(key.private_bytes(pem, serialization.PrivateFormat.PKCS8, plain))
        return certificate

    def test_a_certificate_that_ran_out_or_soon_will_is_told_when_the_site_is_read(self) -> None:
        key = ec.generate_private_key(ec.SECP256R1())
        path = self.folder / "tls.toml"
        path.write_text(
            '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://192.0.2.7"\n[[bridge]]\nname = "Room"\n'
            'listen = "tls://127.0.0.1:8802"\nserve_cert = "old.pem"\nserve_key = "old.key"\n'
            '[[bridge.route]]\nunits = 1\nto = "L"\n'
        )
        for days, text in ((-1, "old.pem ran out on"), (10, "old.pem runs out in"), (90, "")):
            self._certificate("old", key, None, is_own=True, ends_days=days)
            warnings = [str(fault) for fault in load_site(path)[1] if "old.pem" in str(fault)]
            self.assertEqual(len(warnings), bool(text), warnings)
            self.assertIn(text, " ".join(warnings))

    def _files(self, client: str | None) -> TlsFiles:
        ca = str(self.folder / "ca.pem")
        return (
            TlsFiles(ca, str(self.folder / f"{client}.pem"), str(self.folder / f"{client}.key"))
            if client
            else TlsFiles(ca)
        )

    def _asked(
        self, client: str | None, requests: list[Request], roles: bool = False, wants_client: bool = True
    ) -> list[Outcome]:
        may = (("operator", (3, 6, 16, 22)), ("viewer", (3,))) if roles else ()
        serving = TlsServing(
            self.folder / "server.pem",
            self.folder / "server.key",
            self.folder / "ca.pem" if wants_client else None,
            may,
        )
        link = TcpLink("127.0.0.1", free_port(), tls=self._files(client))
        self.clients: list[str] = []
        return asked(line_of(link, tls_serving=serving), requests, clients=self.clients)


class Tls(WithCertificates):
    def test_with_certificates_on_both_sides(self) -> None:
        check_answers(self, self._asked("operator", ASKED))
        (outcome,) = self._asked(None, ASKED[:1], wants_client=False)
        self.assertTrue(outcome.is_good)

    def test_the_suite_that_every_device_must_have(self) -> None:
        """Security over TLS, 8.2: TLS_RSA_WITH_AES_128_CBC_SHA256, offered where the link asks for it."""
        key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
        self._certificate("old", key, None)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.maximum_version = ssl.TLSVersion.TLSv1_2
        context.set_ciphers("AES128-SHA256")
        context.load_cert_chain(self.folder / "old.pem", self.folder / "old.key")
        with socket.create_server(("127.0.0.1", 0)) as listening:
            port = listening.getsockname()[1]

            def serve() -> None:
                with contextlib.suppress(OSError):
                    while True:
                        connection, _ = listening.accept()
                        with (
                            contextlib.suppress(ssl.SSLError),
                            context.wrap_socket(connection, server_side=True) as one,
                        ):
                            suites.append(one.cipher()[0])  # type: ignore[index]
                            one.recv(1)

            suites: list[str] = []
            threading.Thread(target=serve, daemon=True).start()
            files = self._files(None)

            async def connect(offers: bool) -> None:
                channel = TcpChannel(TcpLink("127.0.0.1", port, tls=replace(files, offers_required=offers)), 5)
                await channel.open(lambda data, at: None, lambda why: None)
                channel.close()

            with self.assertRaisesRegex(Unreachable, "no cipher suite is common to both ends; suite=required offers"):
                asyncio.run(connect(offers=False))
            asyncio.run(connect(offers=True))
            until = time.monotonic() + 10
            while not suites and time.monotonic() < until:
                time.sleep(0.02)
            self.assertEqual(suites, ["AES128-SHA256"])
        link = parse_link("tls://192.0.2.1?suite=required")
        self.assertEqual(str(link), "tls://192.0.2.1:802?suite=required")
        with self.assertRaisesRegex(ValueError, "suite is required or usual, not 'all'"):
            parse_link("tls://192.0.2.1?suite=all")

    def test_a_role_may_do_only_what_it_may(self) -> None:
        read, write = ASKED[0], WriteRegister(0, 1)
        for client, codes in (("operator", [None, None]), ("viewer", [None, 1]), ("nobody", [1, 1])):
            with self.subTest(client=client):
                self.assertEqual([outcome.code for outcome in self._asked(client, [read, write], roles=True)], codes)
                self.assertIn("no role" if client == "nobody" else f"role '{client}'", self.clients[0])

    def test_who_shows_no_certificate_has_no_role_and_may_nothing_where_roles_are(self) -> None:
        asked_for: list[Request] = [ASKED[0], WriteRegister(0, 1)]
        outcomes = self._asked(None, asked_for, roles=True, wants_client=False)
        self.assertEqual([outcome.code for outcome in outcomes], [1, 1])
        outcomes = self._asked(None, asked_for, wants_client=False)
        self.assertEqual([outcome.code for outcome in outcomes], [None, None])

    def test_who_is_not_let_in_is_told_why(self) -> None:
        with self.assertRaisesRegex(Unreachable, "there is no such file"):
            asked(
                line_of(TcpLink("127.0.0.1", free_port())),
                ASKED[:1],
                TcpLink("127.0.0.1", 1, tls=TlsFiles("/nothing.pem")),
            )
        port = free_port()
        with self.assertRaisesRegex(Unreachable, "does not speak TLS"):
            asked(
                line_of(TcpLink("127.0.0.1", port)), ASKED[:1], TcpLink("127.0.0.1", port, tls=self._files("operator"))
            )
        for client in (None, "stranger"):
            try:
                (outcome,) = self._asked(client, ASKED[:1])
                self.assertEqual(outcome.kind, OutcomeKind.UNREACHABLE)
            except Unreachable as error:
                self.assertIn("certificate", str(error))
        serving = TlsServing(self.folder / "stranger.pem", self.folder / "stranger.key")
        link = TcpLink("127.0.0.1", free_port(), tls=self._files("operator"))
        with self.assertRaisesRegex(Unreachable, "certificate is not accepted"):
            asked(line_of(link, tls_serving=serving), ASKED[:1])
