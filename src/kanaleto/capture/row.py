"""An exchange as it is kept: who asked what when, what came of it, and the bytes of both frames."""

from functools import lru_cache
from typing import NamedTuple

from kanaleto.board.listener import Exchange
from kanaleto.lines.opening import framing_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.overhearing import HeardExchange
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.origin import Origin
from kanaleto.wire.explain import pdu_of
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.pdu import Answer, PduError, Request, parse_answer, parse_request


class ExchangeRow(NamedTuple):
    """Times in microseconds: `at_us` since 1970, when the first byte of the request went; the others after that: when
    its last byte had gone, when the first byte came back, when it was done. `device` is empty for a unit that is not in
    the site, `line` and `link` are as the site has them."""

    at_us: int
    line: str
    link: str
    origin: str
    device: str
    unit_id: int
    kind: OutcomeKind
    attempt: int
    request: bytes
    answer: bytes
    sent_us: int
    first_us: int
    last_us: int
    reason: str

    @property
    def took_us(self) -> int:
        """From the request's last byte to the answer's last byte."""
        return max(self.last_us - self.sent_us, 0)

    def asked(self) -> Request | None:
        """The request, where the line's framing gives one."""
        return _asked(self.link, self.request)

    def answered(self) -> Answer | None:
        """The answer, where there is a sound one."""
        try:
            frame = _only_frame(self.link, Role.ANSWERS, self.answer)
            return parse_answer(frame.pdu) if frame is not None else None
        except PduError:
            return None

    @property
    def pdu(self) -> bytes:
        """The PDU of the request as its bytes have it."""
        return pdu_of(framing_name(self.link), self.request)

    @property
    def answer_pdu(self) -> bytes:
        """The PDU of the answer as its bytes have it, sound or not."""
        return pdu_of(framing_name(self.link), self.answer)

    @property
    def function(self) -> int | None:
        """The function code that was asked, or that an unasked answer has; None where there is neither."""
        pdu = self.pdu or self.answer_pdu
        return pdu[0] & 0x7F if pdu else None


def refused_code(row: ExchangeRow) -> int | None:
    """The exception code of a refusal (application protocol 1.1b3, 7)."""
    pdu = row.answer_pdu
    return pdu[1] if row.kind is OutcomeKind.EXCEPTION and len(pdu) >= 2 else None


@lru_cache(2000)
def _asked(link: str, raw: bytes) -> Request | None:
    try:
        frame = _only_frame(link, Role.REQUESTS, raw)
        return parse_request(frame.pdu) if frame is not None else None
    except PduError:
        return None


def _only_frame(link: str, role: Role, raw: bytes) -> Frame | None:
    if not raw:
        return None
    decoder = framing_of(link_of(link)).decoder(role)
    found = [event for event in [*decoder.feed(raw), *decoder.silence()] if isinstance(event, Frame)]
    return found[0] if found else None


_LINKS: dict[str, Link] = {}
_MOST_LINKS = 1000


def link_of(text: str) -> Link:
    """A link's text, parsed once. One that is none is a TCP link to nowhere: its frames may still be read."""
    link = _LINKS.get(text)
    if link is None:
        if len(_LINKS) >= _MOST_LINKS:
            _LINKS.clear()
        try:
            link = parse_link(text)
        except ValueError:
            link = parse_link("tcp://0.0.0.0")
        _LINKS[text] = link
    return link


_FRAMINGS: dict[str, str] = {}


def framing_name(link: str) -> str:
    """rtu, ascii or tcp: how frames look on a link."""
    name = _FRAMINGS.get(link)
    if name is None:
        if len(_FRAMINGS) >= _MOST_LINKS:
            _FRAMINGS.clear()
        name = _FRAMINGS[link] = framing_of(link_of(link)).name
    return name


def row_of(exchange: Exchange, link: str, origin: str) -> ExchangeRow:
    """Of an exchange as the engine tells it."""
    outcome = exchange.outcome
    asked_at = outcome.asked_at
    return ExchangeRow(
        round(exchange.wall_s * 1e6),
        exchange.line.name,
        link,
        origin,
        exchange.device.name if exchange.device is not None else "",
        outcome.unit_id,
        outcome.kind,
        exchange.attempt,
        outcome.request,
        outcome.answer,
        _after(outcome.sent_at, asked_at),
        _after(outcome.first_at, asked_at) if outcome.answer else 0,
        _after(outcome.done_at, asked_at),
        outcome.reason,
    )


def _after(at_s: float, asked_at: float) -> int:
    return max(round((at_s - asked_at) * 1e6), 0)


def row_of_heard(heard: HeardExchange, line: str, link: Link, wall_s: float) -> ExchangeRow:
    """Of an exchange of another master that was overheard. `wall_s` is by how much the wall clock is ahead of the
    loop's."""
    outcome = heard.outcome(link.character_s)
    begun_s = outcome.asked_at

    return ExchangeRow(
        round((wall_s + outcome.asked_at) * 1e6), line, str(link), Origin.OVERHEARD.value, "", heard.unit_id,
        heard.kind, 0, heard.request, heard.answer, _after(outcome.sent_at, begun_s),
        _after(outcome.first_at, begun_s) if heard.answer else 0, _after(outcome.done_at, begun_s), heard.reason,
    )  # fmt: skip
