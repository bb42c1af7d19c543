"""`kanaleto read`: values from one device, once or again and again."""

import asyncio
from typing import Any

import click

from kanaleto.cli.failures import Failed, sentence, tell_failure
from kanaleto.cli.foreground import run_until_signal
from kanaleto.cli.oneexchange import unreachable
from kanaleto.cli.options import Target, make_target, target_options, usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.lines.readspan import Span, read_span, split_reads
from kanaleto.values.codec import NoValue, Value
from kanaleto.values.text import plain, shown, words_of
from kanaleto.wire.pdu import Read, unpack_bits

_HELP = """Read values from one device.

LINK is tcp://HOST[:502], rtu:///dev/ttyUSB0?baud=19200&parity=even&stop=1, rtu+tcp://HOST:PORT and the like;
TABLE is coil, discrete, input or holding; ADDRESS counts from 0 as on the wire unless --numbering says otherwise, and
may be 0x….

\b
Example: one float as the manual prints it, word-swapped
  kanaleto read rtu:///dev/ttyUSB0?baud=19200 holding 40001 --numbering reference --unit 13 --type float32 --order CDAB
"""


@click.command("read", help=_HELP)
@target_options(is_read=True)
@click.option("--count", default=1, show_default=True, type=click.IntRange(1, 65536), help="values, not registers")
@click.option("--every", "every_s", type=click.FloatRange(0, 86400), help="read again every so many seconds")
@click.option("--times", type=click.IntRange(1), help="how often in all; without it until interrupted")
def command(
    count: int, every_s: float | None, times: int | None, timeout_s: float, retries: int, is_json: bool, **where: Any
) -> int:
    target = make_target(**where)
    requests = usage(
        lambda: split_reads(
            target.table, target.address, count * target.per_value, target.per_value, target.table.most_read
        )
    )
    rounds = times if times is not None else (None if every_s is not None else 1)
    work = _ReadCommand(target, requests, count, timeout_s, retries, is_json)
    run_until_signal(work.run(every_s or 0.0, rounds))
    if work.last_failure is not None:
        raise Failed
    return 0


class _ReadCommand:
    def __init__(
        self, target: Target, requests: list[Read], count: int, timeout_s: float, retries: int, is_json: bool
    ) -> None:
        self.last_failure: Outcome | None = None
        self._target, self._requests, self._count = target, requests, count
        self._timeout_s, self._retries, self._is_json = timeout_s, retries, is_json
        self._before: list[Value] | None = None
        self._has_said_echo = False

    async def run(self, every_s: float, rounds: int | None) -> None:
        exchanger = exchanger_for(self._target.link)
        loop = asyncio.get_running_loop()
        next_s = loop.time()
        done = 0
        try:
            while rounds is None or done < rounds:
                await asyncio.sleep(max(next_s - loop.time(), 0))
                next_s = max(next_s + every_s, loop.time())
                await self._once(exchanger, is_repeated=rounds != 1)
                done += 1
        finally:
            exchanger.close()

    async def _once(self, exchanger: Exchanger, is_repeated: bool) -> None:
        target = self._target
        if not exchanger.is_open:
            try:
                await exchanger.open()
            except Unreachable as error:
                self.last_failure = unreachable(target.unit_id, str(error))
                self._tell(self.last_failure)
                return
        span = await read_span(exchanger, target.unit_id, self._requests, self._timeout_s, self._retries)
        self.last_failure = span.failure
        if exchanger.has_found_echo and not self._has_said_echo:
            self._has_said_echo = True
            say(f"{target.link.place} repeats what it sends: add echo=yes to the link", err=True)
        if span.failure is not None:
            self._tell(span.failure)
            return
        values = self._values(span.data)
        if self._is_json:
            self._emit(span, values)
        else:
            self._print(span, values, is_repeated)
        self._before = values

    def _tell(self, outcome: Outcome) -> None:
        if self._is_json:
            tell_failure(str(self._target.link), None, outcome, True, self._target.unit_id)
        say(sentence(outcome, f"{self._target.link.place}, unit {self._target.unit_id}"), err=True)

    def _values(self, data: bytes) -> list[Value]:
        target = self._target
        if target.table.is_bits:
            return [int(bit) for bit in unpack_bits(data, self._count)]
        width = 2 * target.per_value
        return [target.codec.decode(data[at : at + width]) for at in range(0, len(data), width)]

    def _emit(self, span: Span, values: list[Value]) -> None:
        target = self._target
        raw: dict[str, object] = (
            {"bits": list(values)} if target.table.is_bits else {"words": list(words_of(span.data))}
        )
        reasons = sorted({value.reason for value in values if isinstance(value, NoValue)})
        why: dict[str, object] = {"reason": "; ".join(reasons)} if reasons else {}
        emit(
            {"at": iso(), "unit_id": target.unit_id, "table": target.table.value, "address": target.address, **raw}
            | {
                "values": [plain(value, target.codec, target.decimals) for value in values],
                "took_ms": round(span.took_s * 1000, 3),
                **why,
            }
        )

    def _print(self, span: Span, values: list[Value], is_repeated: bool) -> None:
        target = self._target
        if is_repeated:
            say(f"{iso()}  {span.took_s * 1000:.1f} ms")
        rows = []
        for at, value in enumerate(values):
            address = target.address + at * target.per_value
            words = (
                ""
                if target.table.is_bits
                else span.data[2 * at * target.per_value :][: 2 * target.per_value].hex(" ", 2).upper()
            )
            text = f"— {value.reason}" if isinstance(value, NoValue) else shown(value, target.codec, target.decimals)
            is_changed = self._before is not None and self._before[at] != value
            rows.append((target.shown_address(address), words, text, "  ← changed" if is_changed else ""))
        widths = [max(len(row[column]) for row in rows) for column in range(3)]
        for address_text, words, text, mark in rows:
            middle = f"{words:<{widths[1]}}  " if widths[1] else ""
            say(f"{address_text:>{widths[0]}}  {middle}{text:>{widths[2]}}{mark}")
