"""The line to write into, as it is shown: its state, its rows, its keys, and when what it says has been painted."""

from enum import Enum

from textual.strip import Strip
from textual.widget import Widget

from kanaleto.control.order import Consent, Order
from kanaleto.control.preview import Preview, Spot
from kanaleto.site.model import Device
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.question import WriteQuestion, question_rows
from kanaleto.tui.write.confirming import Confirming
from kanaleto.tui.write.seen import SeenPreview, message_rows
from kanaleto.tui.write.typed import Typed

_ROWS = 7


class Phase(Enum):
    TYPING = "typing"
    SENDING = "sending"
    ASKED = "asked"
    DONE = "done"


class ShownLine(Drawn, can_focus=True):
    """What the keys do stands in `line`."""

    DEFAULT_CSS = f"ShownLine {{ height: {_ROWS}; display: none; }}"

    def __init__(self) -> None:
        super().__init__()
        self.phase = Phase.TYPING
        self.message, self.tone = "", "muted"
        self._spots: list[Spot] = []
        self._bit: int | None = None
        self._typed = Typed()
        self._preview = Preview(fault="")
        self._asked: tuple[Consent, list[Order]] | None = None
        self._question: WriteQuestion | None = None
        self._confirming = Confirming(
            lambda delay_s, what: self.set_timer(delay_s, what), lambda: self.context.presses, lambda: self._expected
        )
        self._judged: tuple[float, str] = (0.0, "")
        self._waits = self._spelled = ""
        self._sends = 0
        self._has_back = False
        """Whether the way back is what stands in the line."""
        self._read: dict[tuple[str, str], tuple[bytes, float]] = {}
        self._before: Widget | None = None
        self._lines: list[Cells] = []

    @property
    def is_open(self) -> bool:
        return bool(self.display)

    @property
    def _expected(self) -> object:
        """What enter would confirm."""
        asked = (self.message, self._question) if self.phase is Phase.ASKED else ("", None)
        return self.phase, self._preview.key, asked, self._sends

    # What is seen

    def _say(self, text: str, tone: str) -> None:
        self.message, self.tone = text, tone

    def keys_here(self) -> list[Key]:
        if self.phase is Phase.ASKED:
            choices = self._question.choices if self._question is not None else ()
            keys: list[Key] = [(choice.key, choice.verb) for choice in choices] or [("y", "yes")]
            return [*keys, ("escape", "no"), ("ctrl+q", "quit")]
        if self.phase is Phase.SENDING:
            return [("escape", "close"), ("ctrl+q", "quit")]
        send = "send the way back" if self._has_back else "send"
        return [
            ("enter", send),
            ("up down", "on, off, states"),
            ("ctrl+k", "keep alive"),
            ("escape", "close"),
            ("ctrl+q", "quit"),
        ]

    def begin_drawing(self) -> None:
        snapshot = self.context.snapshot
        if not self._spots:
            self._lines = question_rows(self.palette, self._question, self.size.width) if self._question else []
            self._look_at_paint()
            return
        device: Device | None = self._spots[0].device if self._spots else None
        orders = self.context.control.orders
        seen = SeenPreview(
            self._spots, self._preview, snapshot, self.palette, self.size.width,
            lambda spot: orders.knows_mask(spot.device.name if spot.device is not None else "", spot.limits),
        )  # fmt: skip
        message, tone = self.message, self.tone
        if self.phase is Phase.TYPING and not message and self._typed.text:
            message, tone = self._preview.fault or seen.changed, "ochre"
            if not message and self._waits:
                message, tone = self._waits, "muted"
        self._lines = [
            seen.title("way back" if self._has_back else "", self._bit),
            seen.value(self._typed.text, self._typed.at, self.has_keys),
            seen.goes_out(),
            seen.then(device),
            *message_rows(self.palette, message, tone, self.size.width, _ROWS - 4),
        ]
        self._look_at_paint()

    def _look_at_paint(self) -> None:
        if self._confirming.is_new():
            self.call_after_refresh(self._note_painted, self._expected)

    def _note_painted(self, key: object) -> None:
        """It has been drawn: it is seen once the terminal has it."""
        if not self.context.has_gone_out:
            self.set_timer(0.02, lambda: self._note_painted(key))
            return
        self._confirming.painted(key, self.context.engine.now_s())

    def draw_line(self, y: int) -> Strip:
        cells = self._lines[y] if y < len(self._lines) else Cells(self.palette, "panel")
        return self.strip_of(y, cells, self.size.width)
