"""`kanaleto write`: values to one device, in one request."""

import time
from pathlib import Path
from typing import Any

import click

from kanaleto.cli.failures import Failed, outcome_error, sentence
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.oneexchange import unreachable
from kanaleto.cli.options import Target, make_target, target_options, usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.siteline import SITE_OPTION, YES_OPTION, SiteLine, site_line
from kanaleto.control.ledger import CannotWriteDown
from kanaleto.control.outcomewords import is_taken
from kanaleto.control.single import Book, SingleWrite
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.site.counting import parse_number
from kanaleto.site.links.link import FramingKind
from kanaleto.values.codec import CannotEncode, Value
from kanaleto.values.text import decimals_of, shown, words_of
from kanaleto.values.typed import typed_value
from kanaleto.wire.pdu import Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters, pack_bits
from kanaleto.wire.reach import written_by
from kanaleto.wire.records import MaskWrite

_HELP = """Write values to one device, all in one request. Negative numbers work as they stand.

TABLE is coil or holding. A coil takes 1, 0, on or off. A write is never split: what does not fit one request is
refused.

\b
Example: a set point of -12.5, read back
  kanaleto write tcp://127.0.0.1:15020 holding 110 -12.5 --unit 3 --type int16 --factor 0.1 --verify
"""
_BY = "kanaleto write"
_ON = {"1": True, "on": True, "true": True, "0": False, "off": False, "false": False}


@click.command("write", help=_HELP, context_settings={"ignore_unknown_options": True})
@target_options(is_read=False)
@click.argument("values", nargs=-1, metavar="VALUE...", type=click.UNPROCESSED)
@click.option("--and", "and_mask", metavar="MASK", help="mask write (16) of one holding register: keep these bits")
@click.option("--or", "or_mask", metavar="MASK", help="mask write: set these among the others")
@click.option(
    "--multiple", "is_multiple", is_flag=True, help="use the functions for several (0F, 10) for one value too"
)
@click.option("--verify", "is_verified", is_flag=True, help="read back and compare")
@SITE_OPTION
@YES_OPTION
def command(
    values: tuple[str, ...],
    and_mask: str | None,
    or_mask: str | None,
    is_multiple: bool,
    is_verified: bool,
    timeout_s: float,
    is_json: bool,
    site_path: Path | None,
    is_yes: bool,
    **where: Any,
) -> int:
    at = site_line(site_path, where["link"], where["unit_id"])
    if at is not None:
        where["link"] = str(at.line.link)
    target = make_target(**where, may_broadcast=True)
    if not target.table.is_writable:
        raise click.UsageError(f"nobody can write {target.table.title}; write coil or holding")
    if and_mask is not None or or_mask is not None:
        if values or target.table.is_bits:
            raise click.UsageError("--and and --or write one holding register and take no VALUE")
        request: Request = usage(lambda: _masked(target.address, and_mask, or_mask))
        data = b""
    else:
        if not values:
            raise click.UsageError("VALUE is missing")
        request, data = usage(lambda: _request(target, values, is_multiple))
    if is_verified and target.unit_id == 0 and target.link.framing is not FramingKind.TCP:
        raise click.UsageError("unit 0 is a broadcast: nobody can be read back")
    if at is not None:
        back = written_by(request.encode()) if is_verified else None
        at.require_allowed(request.encode(), is_yes, back or ())
    write = SingleWrite(
        unit_id=target.unit_id, table=target.table, address=target.address, count=_count(target, request, data),
        request=request, data=data, timeout_s=timeout_s,
    )  # fmt: skip
    work = _Writing(target, write, is_json, is_verified, at, values)
    run_until_signal(work.run())
    if work.has_failed:
        raise Failed
    return 0


def _masked(address: int, and_mask: str | None, or_mask: str | None) -> MaskWrite:
    """--or alone sets its bits and keeps the others. Raises ValueError."""
    set_bits = parse_number(or_mask) if or_mask is not None else 0
    return MaskWrite(address, parse_number(and_mask) if and_mask is not None else ~set_bits & 0xFFFF, set_bits)


def _request(target: Target, values: tuple[str, ...], is_multiple: bool) -> tuple[Request, bytes]:
    """The request, and the data that a read of the same span must bring. Raises ValueError."""
    if target.table.is_bits:
        bits = tuple(_coil(text) for text in values)
        if len(bits) == 1 and not is_multiple:
            return WriteCoil(target.address, bits[0]), pack_bits(bits)
        return WriteCoils(target.address, bits), pack_bits(bits)
    data = b"".join(_encoded(target, text) for text in values)
    words = words_of(data)
    if len(words) == 1 and not is_multiple:
        return WriteRegister(target.address, words[0]), data
    return WriteRegisters(target.address, words), data


def _coil(text: str) -> bool:
    if text.lower() not in _ON:
        raise ValueError(f"{text!r} is no state of a coil; write 1, 0, on or off")
    return _ON[text.lower()]


def _encoded(target: Target, text: str) -> bytes:
    codec = target.codec
    if text.startswith("-") and text[1:2].isalpha():
        raise ValueError(f"{text!r} is no such option")
    decimals = target.decimals if target.decimals is not None else decimals_of(codec)
    try:
        value = typed_value(text, codec)
    except CannotEncode as error:
        raise ValueError(str(error)) from None
    try:
        return codec.encode(value, decimals=decimals)
    except CannotEncode as error:
        raise ValueError(f"{codec}: {error}") from None


def _count(target: Target, request: Request, data: bytes) -> int:
    """Items that it writes."""
    if isinstance(request, WriteCoils):
        return len(request.bits)
    return 1 if target.table.is_bits or isinstance(request, MaskWrite) else len(data) // 2


class _Writing:
    """Sends it, and tells what came of it."""

    def __init__(
        self, target: Target, write: SingleWrite, is_json: bool, is_verified: bool, at: SiteLine | None,
        texts: tuple[str, ...],
    ) -> None:  # fmt: skip
        self.has_failed = False
        self._at, self._texts = at, texts
        self._target, self._write = target, write
        self._is_json, self._is_verified = is_json, is_verified

    async def run(self) -> None:
        target, write = self._target, self._write
        exchanger = exchanger_for(target.link)
        try:
            try:
                await exchanger.open()
            except Unreachable as error:
                self._fail(unreachable(target.unit_id, str(error)))
                return
            if self._is_verified:
                await write.expect(exchanger)
            outcome = await self._send(exchanger)
            if not is_taken(outcome):
                self._fail(outcome)
                return
            if not outcome.is_good:
                say(f"{self._who}: accepted with 05, acknowledge: the device is still at it", err=True)
            verified: bool | None = None
            seen = b""
            if self._is_verified:
                seen, failure = await write.read_back(exchanger)
                if failure is None:
                    verified = seen == write.data
                else:
                    say(f"written, but not read back: {sentence(failure, self._who)}", err=True)
            self._report(outcome, verified, seen)
        finally:
            exchanger.close()

    async def _send(self, exchanger: Exchanger) -> Outcome:
        """Once; where a site is named it is written down first."""
        if self._at is None:
            return await self._write.send(exchanger, None, _BY)
        ledger, journal = self._at.ledger(_BY)
        device = self._at.device.name if self._at.device is not None else ""
        try:
            return await self._write.send(exchanger, Book(self._at.line.name, device, ledger, time.time), _BY)
        except CannotWriteDown as error:
            raise Failed(str(error)) from None
        finally:
            ledger.close()
            journal.end(round(1e6 * time.time()))

    @property
    def _who(self) -> str:
        return f"{self._target.link.place}, unit {self._target.unit_id}"

    def _fail(self, outcome: Outcome) -> None:
        self.has_failed = True
        if self._is_json:
            error = outcome_error(outcome.kind.value, outcome.reason, outcome.code)
            emit(
                {
                    "at": iso(),
                    "line": str(self._target.link),
                    "device": None,
                    "unit_id": self._target.unit_id,
                    "error": error,
                }
            )
        say(sentence(outcome, self._who), err=True)

    def _report(self, outcome: Outcome, verified: bool | None, seen: bytes) -> None:
        target = self._target
        if verified is False:
            self.has_failed = True
            came = f"{seen.hex(' ', 2).upper()} stands there, {self._write.data.hex(' ', 2).upper()} was written"
            say(f"{self._who}: the write was confirmed, but {came}", err=True)
        if self._is_json:
            written: dict[str, object] = (
                {"words": list(words_of(self._write.data))} if not target.table.is_bits else {"bits": self._bits()}
            )
            record: dict[str, object] = {
                "at": iso(),
                "unit_id": target.unit_id,
                "table": target.table.value,
                "address": target.address,
            }
            values = self._bits() if target.table.is_bits else self._values()
            masks = (
                {"and": self._write.request.and_mask, "or": self._write.request.or_mask}
                if isinstance(self._write.request, MaskWrite)
                else {}
            )
            emit(
                record
                | written
                | masks
                | {"values": values, "took_ms": round(outcome.took_s * 1000, 3), "verified": verified}
            )
        elif not self.has_failed:
            what = f"{self._write.count} {target.table.title}" if self._write.count > 1 else target.table.title[:-1]
            is_broadcast = target.unit_id == 0 and target.link.framing is not FramingKind.TCP
            end = ", read back the same" if verified else ", to all: nobody answers" if is_broadcast else ""
            place = target.shown_address(target.address)
            say(f"wrote {what} from {place} in {outcome.took_s * 1000:.1f} ms{self._became}{end}")

    @property
    def _became(self) -> str:
        """What the registers really mean, where that is not what was typed."""
        if self._target.table.is_bits or isinstance(self._write.request, MaskWrite):
            return ""
        texts = [shown(value, self._target.codec, self._target.decimals) for value in self._codec_values()]
        meant = [typed_value(text, self._target.codec) for text in self._texts]
        runs = [tuple(value) if isinstance(value, list) else value for value in meant]
        is_same = all(value == typed for value, typed in zip(self._codec_values(), runs, strict=False))
        return "" if is_same else f", as {'; '.join(texts)}"

    def _bits(self) -> list[object]:
        return [self._write.data[at // 8] >> at % 8 & 1 for at in range(self._write.count)]

    def _values(self) -> list[object]:
        return list(self._codec_values())

    def _codec_values(self) -> list[Value]:
        width = 2 * self._target.per_value
        return [
            self._target.codec.decode(self._write.data[at : at + width])
            for at in range(0, len(self._write.data), width)
        ]
