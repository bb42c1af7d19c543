"""TLS for both ends: at least 1.2, and certificates on both sides where they are given (security over TLS, 8)."""

import ssl
from pathlib import Path

from kanaleto.lines.channel import Cause, Unreachable
from kanaleto.site.links.tcp import TlsFiles

ROLE_EXTENSION = "1.3.6.1.4.1.50316.802.1"
_REQUIRED = "AES128-SHA256"  # how the library calls TLS_RSA_WITH_AES_128_CBC_SHA256
_NO_SUITE = "no cipher suite is common to both ends"
_WANTS_CERTIFICATE = "it may want a client's certificate: cert= and key="


class ClientContext(ssl.SSLContext):
    """Keeps the handshake under way: whether the server has chosen a suite tells what it refused."""

    handshake: ssl.SSLObject | None = None
    offers_required: bool = False

    @property
    def has_chosen(self) -> bool:
        return self.handshake is not None and self.handshake.cipher() is not None


class _ClientHandshake(ssl.SSLObject):
    def do_handshake(self) -> None:
        if isinstance(self.context, ClientContext):
            self.context.handshake = self
        super().do_handshake()


def _offer_required(context: ssl.SSLContext) -> None:
    """Also the suite that every TLS 1.2 device must have (security over TLS, 8.2), which gives away all that was said
    if the key is ever lost, and so is not offered unasked."""
    usual = [suite["name"] for suite in context.get_ciphers() if suite["protocol"] != "TLSv1.3"]
    context.set_ciphers(":".join([*usual, _REQUIRED]))


def client_context(files: TlsFiles) -> ClientContext:
    """A client's context. The server must be signed by `ca`, or by an authority that this machine trusts when none is
    given; its name is not compared, since devices are reached by address. Raises Unreachable when a file cannot be
    used."""
    context = ClientContext(ssl.PROTOCOL_TLS_CLIENT)
    context.sslobject_class = _ClientHandshake
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.check_hostname = False
    context.offers_required = files.offers_required
    if files.offers_required:
        _offer_required(context)
    try:
        if files.ca is not None:
            context.load_verify_locations(files.ca)
        else:
            context.load_default_certs()
        if files.cert is not None:
            context.load_cert_chain(files.cert, files.key)
    except (OSError, ssl.SSLError) as error:
        raise Unreachable(_file_sentence(files, error), Cause.TLS) from None
    return context


def server_context(cert: Path, key: Path, ca: Path | None, offers_required: bool = False) -> ssl.SSLContext:
    """A server's context; with `ca` a client must show a certificate signed by it. Raises OSError (an ssl.SSLError is
    one)."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    if offers_required:
        _offer_required(context)
    context.load_cert_chain(cert, key)
    if ca is not None:
        context.load_verify_locations(ca)
        context.verify_mode = ssl.CERT_REQUIRED
    return context


def role_in(certificate: bytes) -> str | None:
    """The role in a client's certificate (DER), from its extension; None when it has none. The text is a UTF8String."""
    from cryptography import x509  # only needed where roles are

    try:
        extension = x509.load_der_x509_certificate(certificate).extensions.get_extension_for_oid(
            x509.ObjectIdentifier(ROLE_EXTENSION)
        )
    except (x509.ExtensionNotFound, ValueError):
        return None
    if not isinstance(extension.value, x509.UnrecognizedExtension):
        return None
    raw = extension.value.value
    if len(raw) >= 2 and raw[0] in (0x0C, 0x13, 0x16) and raw[1] < 0x80 and len(raw) == 2 + raw[1]:
        raw = raw[2:]
    return raw.decode("utf-8", "replace")


def tls_sentence(context: ClientContext, error: OSError) -> str:
    """What went wrong in the handshake: an error of TLS, or the end of the connection in the midst of it."""
    advice = "" if context.offers_required else "; suite=required offers the one that every TLS 1.2 device must have"
    if not isinstance(error, ssl.SSLError):
        if context.has_chosen:
            return f"it ended the connection during the handshake; {_WANTS_CERTIFICATE}"
        return (
            "it ended the connection during the handshake; it does not speak TLS there (is it tcp:// instead?), wants "
            f"a client's certificate, or {_NO_SUITE}{advice}"
        )
    reason = (error.reason or str(error)).lower().replace("_", " ")
    if isinstance(error, ssl.SSLCertVerificationError):
        return f"its certificate is not accepted: {error.verify_message}; name its authority with ca="
    if "wrong version number" in reason or "record layer failure" in reason:
        return "it does not speak TLS there; is it tcp:// instead?"
    if "alert handshake failure" in reason and not context.has_chosen:
        return f"{_NO_SUITE}{advice}"
    if "certificate required" in reason or "handshake failure" in reason:
        return f"it refused the connection ({reason}); {_WANTS_CERTIFICATE}"
    return f"no secure connection: {reason}"


def _file_sentence(files: TlsFiles, error: OSError) -> str:
    for key, path in files.items():
        if path is not None and not Path(path).is_file():
            return f"{key}={path}: there is no such file"
    return f"the certificate files cannot be used: {error.strerror or error}"
