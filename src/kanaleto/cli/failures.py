"""How a command says that it could not do its work."""

from kanaleto.cli.failed import Failed
from kanaleto.cli.output import emit, iso, say
from kanaleto.lines.outcome import Outcome

__all__ = ["Failed", "outcome_error", "sentence", "tell_failure"]


def outcome_error(kind: str, text: str, code: int | None = None) -> dict[str, object]:
    """The `error` object of a failure in JSON."""
    return {"kind": kind, "code": code, "text": text}


def tell_failure(line: str, device: str | None, outcome: Outcome, is_json: bool, unit_id: int | None = None) -> None:
    """Tell one failed exchange: an object on stdout for --json, else a line on stderr."""
    if is_json:
        unit = {} if unit_id is None else {"unit_id": unit_id}
        error = outcome_error(outcome.kind.value, outcome.reason, outcome.code)
        emit({"at": iso(), "line": line, "device": device, **unit, "error": error})
    else:
        say(sentence(outcome, device or (f"unit {unit_id}" if unit_id is not None else "")), err=True)


def sentence(outcome: Outcome, who: str) -> str:
    """A failed exchange in one sentence."""
    words = {
        "exception": "refused",
        "timeout": "is silent",
        "garbled": "came garbled",
        "unexpected": "was not what answered",
        "unreachable": "cannot be reached",
    }[outcome.kind.value]
    return f"{who} {words}: {outcome.reason}"
