"""One exchange from the command line."""

import asyncio

from kanaleto.cli.foreground import run_until_signal
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.links.link import Link
from kanaleto.wire.frames import Framing
from kanaleto.wire.pdu import Request


def unreachable(unit_id: int, why: str) -> Outcome:
    """The outcome of asking over a link that cannot be reached."""
    now = asyncio.get_running_loop().time()
    return Outcome(OutcomeKind.UNREACHABLE, unit_id, b"", b"", None, now, now, 0.0, now, why)


def asked_once(link: Link, unit_id: int, request: Request, timeout_s: float) -> tuple[Outcome, Framing]:
    """Connect, ask, close. A signal ends it as `unreachable`."""
    exchanger = exchanger_for(link)
    outcomes: list[Outcome] = []

    async def work() -> None:
        try:
            await exchanger.open()
            outcomes.append(await exchanger.ask(unit_id, request, timeout_s))
        except Unreachable as error:
            outcomes.append(unreachable(unit_id, str(error)))
        finally:
            exchanger.close()

    run_until_signal(work())
    if not outcomes:
        outcomes.append(Outcome(OutcomeKind.UNREACHABLE, unit_id, b"", b"", None, 0, 0, 0, 0, "interrupted"))
    return outcomes[0], exchanger.framing
