"""How surveys of a place wait, asked in one line."""

from kanaleto.finding.desk import FindPlace
from kanaleto.probing.asking import Timing, parse_timing
from kanaleto.tui.shared.context import Context


def ask_timing(context: Context, place: FindPlace) -> None:
    timing = place.state.timing
    now = f"{timing.timeout_s:g}, {timing.pause_s:g}" if timing.timeout_s is not None else ""

    def take(text: str) -> str | None:
        try:
            timing = parse_timing(text)
        except ValueError as error:
            return str(error)
        place.update(timing=timing)
        context.tell(f"surveys of {place.title} {_words(timing)}")
        return None

    context.ask(f"timeout and pace in s for surveys of {place.title} (nothing: as each takes by itself)", now, take)


def _words(timing: Timing) -> str:
    if timing.timeout_s is None:
        return "wait as long as each takes by itself"
    pause = f", with {timing.pause_s:g} s between requests" if timing.pause_s else ""
    return f"wait {timing.timeout_s:g} s for an answer{pause}"
