"""How long a write may have to wait on its line: the longest exchange that may be under way when it is due, and the
timeout and quarantine of whoever is silent."""

from msgspec import Struct

from kanaleto.lines.exchange import QUARANTINE_S
from kanaleto.polling.line import LinePoller
from kanaleto.polling.schedule import DeviceState
from kanaleto.wire.codes import Table

_REQUEST_BYTES = 8


class Wait(Struct, frozen=True):
    """Seconds, and of what. `longest_s` as the line stands now; `exchange_s` of the longest exchange that is answered,
    `silent_s` of whoever is silent now (0 where nobody is); `if_silent_s` once whoever has the longest timeout falls
    silent; `split_s` where reads are as short as can be."""

    longest_s: float
    why: str
    exchange_s: float
    silent_s: float
    if_silent_s: float
    split_s: float
    silent: tuple[str, ...] = ()


def _given_up_s(poller: LinePoller, state: DeviceState) -> float:
    quarantine_s = 0.0 if poller.exchanger.framing.has_transactions else QUARANTINE_S
    return state.device.timeout_s + quarantine_s


def wait_on(poller: LinePoller) -> Wait:
    """For the loop's thread."""
    link = poller.line.link
    cost = link.cost(poller.line.gap_s)
    exchange_s, why, split_s = 0.0, "nothing else is asked there", 0.0
    silent: list[tuple[float, str]] = []
    given_up = [(_given_up_s(poller, state), state.device.name) for state in poller.states.values() if state.jobs]
    for state in poller.states.values():
        if state.is_silent and state.jobs:
            silent.append((_given_up_s(poller, state), state.device.name))
            continue
        if not state.jobs:
            continue
        largest = max(state.jobs, key=lambda job: job.block.cost_s).block
        more_s = _more_s(poller, state)
        if largest.cost_s + more_s > exchange_s:
            exchange_s = largest.cost_s + more_s
            items = "bits" if largest.request.table.is_bits else "registers"
            why = f"{largest.request.count} {items} of {state.device.name} in one request"
        split_s = max(split_s, cost.request_s(Table.HOLDING, 1) + more_s)
    silent_s, name = max(silent, default=(0.0, ""))
    if silent_s > exchange_s:
        why = f"{name} is silent: its timeout of {_timeout(poller, name):g} s, and listening on after it"
    return Wait(
        max(exchange_s, silent_s), why, exchange_s, silent_s, max(given_up, default=(0.0, ""))[0], split_s,
        tuple(name for _, name in silent),
    )  # fmt: skip


def _timeout(poller: LinePoller, name: str) -> float:
    return poller.states[name].device.timeout_s


def _more_s(poller: LinePoller, state: DeviceState) -> float:
    """How much longer than reckoned an exchange took, at the longest of late."""
    channel = poller.exchanger.channel
    own_s = _REQUEST_BYTES * channel.character_s + 2 * channel.gap_s
    largest_s = max((job.block.cost_s for job in state.jobs), default=0.0)
    return max(own_s + state.counts.longest_s - largest_s, 0.0)


def registers_within(poller: LinePoller, may_s: float) -> int | None:
    """How many registers one request may ask so that it is over within `may_s`; None where not even one is."""
    cost = poller.line.link.cost(poller.line.gap_s)
    more_s = max((_more_s(poller, state) for state in poller.states.values()), default=0.0)
    left_s = may_s - more_s - cost.fixed_s
    each_s = cost.item_s(Table.HOLDING)
    return int(left_s / each_s) if left_s >= each_s else None
