"""What came of a write, in words."""

from kanaleto.control.order import Order, State
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.codes import ExceptionCode


def is_taken(outcome: Outcome) -> bool:
    return outcome.is_good or outcome.code == ExceptionCode.ACKNOWLEDGE


def state_of(outcome: Outcome, sent: int, of: int, is_to_all: bool) -> tuple[State, str]:
    part = f"{sent} of {of} requests went; the last: " if of > 1 and not is_taken(outcome) else ""
    if outcome.code == ExceptionCode.ACKNOWLEDGE:
        return State.DONE, "accepted (05, acknowledge): the device is still at it"
    if outcome.is_good:
        return State.DONE, "to all: nobody answers" if is_to_all else ""
    if outcome.kind is OutcomeKind.EXCEPTION and not outcome.is_of_gateway:
        return State.REFUSED, f"{part}refused: {outcome.reason}"
    return State.UNKNOWN, f"{part}it may have been written or not: {outcome.reason}"


def under(data: bytes | None, mask: int) -> bytes | None:
    """Only the bits that are meant."""
    if data is None or len(data) != 2 or mask == 0xFFFF:
        return data
    return (int.from_bytes(data) & mask).to_bytes(2)


def hex_of(data: bytes | None) -> str:
    return data.hex(" ", 2).upper() if data is not None else ""


def words_of_outcome(
    order: Order, state: State, said: str, after: bytes | None, before: bytes | None, is_equal: bool | None,
    why_not: str,
) -> str:  # fmt: skip
    """What came of it, for people."""
    parts = [said] if said else []
    if state is State.UNKNOWN and is_equal is not None:
        same_as_before = before is not None and under(after, order.mask) == under(before, order.mask)
        if is_equal and same_as_before:
            parts.append("what was to be written stands there, as it did before")
        elif is_equal:
            parts.append("read back: it was written")
        elif same_as_before:
            parts.append("read back: the old value stands there, it was not written")
        else:
            parts.append(f"read back: {hex_of(after)} stands there")
    elif is_equal:
        parts.append("read back, equal")
    elif is_equal is False:
        parts.append(f"read back, NOT equal: {hex_of(after)} stands there, {hex_of(order.data)} was written")
    elif why_not:
        parts.append(f"not read back: {why_not}")
    elif state is State.DONE and not said:
        parts.append("confirmed by the device, not read back")
    return "; ".join(parts)
