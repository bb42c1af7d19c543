"""What every drawn thing may reach: the moment, the colours, and ways to tell, to ask and to edit. The application is
one of these; nothing that is drawn knows it as anything else."""

from collections.abc import Callable, Sequence
from concurrent.futures import Future
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING, Protocol

from textual import events

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.door import Door
from kanaleto.editing.news import Done, Opened
from kanaleto.editing.workingcopy import Edit
from kanaleto.polling.engine import Engine
from kanaleto.polling.session import Session
from kanaleto.tui.shared.bench import AppBench
from kanaleto.tui.shared.bridging import AppBridging
from kanaleto.tui.shared.holder import SiteHolder
from kanaleto.tui.shared.look import Palette
from kanaleto.tui.shared.presses import Presses
from kanaleto.tui.shared.proofing import AppProof
from kanaleto.tui.shared.wishes import Request, ShowMoment

if TYPE_CHECKING:
    from kanaleto.capture.seam import Seam
    from kanaleto.control.alives import Offer
    from kanaleto.control.control import Control
    from kanaleto.control.preview import Spot
    from kanaleto.tui.shared.question import WriteQuestion


class Stoppable(Future[object]):
    """What is under way elsewhere, and ends without effect once `stop` is set."""

    def __init__(self) -> None:
        super().__init__()
        self.stop = Event()


Then = Callable[[str], "Future[Done] | Future[str] | Stoppable | str | None"]
"""Takes an answer. It gives back nothing when all is well, a sentence that keeps the line open for correction, or the
future of an edit or of something that takes its time, whose refusal does the same; whoever made it tells why."""


Listed = Sequence[tuple[str, str]]
"""What may stand in a line, each with what it says."""


class KeepsExchanges(Protocol):
    """What views see of what is kept."""

    @property
    def seam(self) -> "Seam":
        """Where the tape ends and what is in memory goes on."""
        ...


class Context(Protocol):
    """See the head of this file. For the interface's thread, but for `later`."""

    engine: Engine
    door: Door
    holder: SiteHolder
    counts_as_wire: bool
    bridging: AppBridging
    """What is passed on for masters."""
    proof: AppProof
    """The checkout of the site."""
    bench: AppBench
    """Devices of the site that stand in."""
    capture: Path | None
    """The capture that was opened instead of a site."""
    reading_from: str
    """Where the exchanges that are shown come from, where it is not the open site; shown in the top row."""
    presses: Presses
    """Which press counts for what unlocks, begins or sends."""

    @property
    def snapshot(self) -> Snapshot:
        """The latest; what a view draws from is the one that it was shown."""
        ...

    @property
    def keeping(self) -> "KeepsExchanges":
        """What is kept of the site."""
        ...

    @property
    def palette(self) -> Palette: ...

    @property
    def recording(self) -> str:
        """Where samples are recorded to now; empty where they are not."""
        ...

    @property
    def control(self) -> "Control":
        """All that tells devices what to do."""
        ...

    @property
    def has_gone_out(self) -> bool:
        """Whether the terminal has all that was drawn for it."""
        ...

    def write(self, spots: "Sequence[Spot]", bit: int | None = None, text: str | None = None) -> None:
        """Open the line that a value is typed into, to be written."""
        ...

    def take_up(self, offer: "Offer") -> None:
        """Open the line that writes with what was kept alive until its device was away."""
        ...

    def ask_to_write(self, question: "WriteQuestion") -> None:
        """Ask something whose answer writes."""
        ...

    @property
    def moment(self) -> float | None:
        """The moment (wall, seconds) that all views are at; None while they are live."""
        ...

    async def show_moment(self, wanted: ShowMoment) -> None:
        """Put all views at a moment. It is done when this has been awaited."""
        ...

    def go_live(self) -> None:
        """All views follow what is read now."""
        ...

    def tell(self, notice: str, gives_way: bool = False) -> None:
        """A line of text instead of the keys, for a few seconds; where it `gives_way`, not in the place of one that was
        shown a moment ago."""
        ...

    def trouble(self, kind: str, text: str) -> None:
        """Something that stays to be seen until it is mended; an empty text mends it."""
        ...

    def ask(self, question: str, answer: str, then: Then, is_added_to: bool = False, listed: "Listed" = ()) -> None:
        """One line at the foot, with an answer that is there already: typed over, or (`is_added_to`) added to. What is
        `listed` may stand in it, and is shown on `?`."""
        ...

    def edit(
        self, edit: Edit, opened: Opened | None = None, then: Callable[[Done], None] | None = None
    ) -> "Future[Done]":
        """Change the site; what came of it is reported."""
        ...

    def do(self, what: Callable[[Session], object]) -> None:
        """Let the engine do something; an error in it is reported."""
        ...

    def send(self, request: Request) -> None:
        """Ask another view for something. It is done at once: keys that are typed ahead go where it leads."""
        ...

    def later(self, what: Callable[[], object]) -> None:
        """Do something on the interface's thread, and wait for it there if it can be awaited. From any thread."""
        ...

    async def take_key(self, event: events.Key) -> None:
        """Act on a key as if it had just been typed."""
        ...

    def take_paste(self, text: str) -> None:
        """Act on a paste as if it had just come."""
        ...

    def refocus(self) -> None:
        """Give the keys back to the view in sight."""
        ...

    def redraw(self) -> None:
        """Show what is in sight again."""
        ...

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool:
        """Where a device would do something of its own, once it is not asked any more, the same key is wanted twice."""
        ...
