"""The checkout of the open site, as the interface asks for it: the sheet is read and appended to on a thread of its
own, readings are asked on the engine's loop; what is shown is on disk by then."""

import asyncio
from collections.abc import Callable, Coroutine, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from msgspec import Struct

from kanaleto.editing.door import Door
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site

if TYPE_CHECKING:
    from kanaleto.control.routine import ProveWanted
    from kanaleto.polling.session import Session
    from kanaleto.proof.checkout import Checkout
    from kanaleto.proof.claims import Claim
    from kanaleto.proof.sequences import SequenceVerdict
    from kanaleto.proof.sheet import ClaimKey, SheetLine
    from kanaleto.proof.there import There

MakeLine = Callable[["Checkout", str, list[str]], "SheetLine"]
"""From the checkout, who takes it, and what it replaces."""


class ProofState(Struct, frozen=True):
    """All claims as they stand, what is wrong with the sheet, and since when there is one."""

    claims: "tuple[Claim, ...]" = ()
    messages: tuple[str, ...] = ()
    begun: str = ""
    trouble: str = ""


class _ProofHost(Protocol):
    """What it needs of the application."""

    engine: Engine
    door: Door

    def tell(self, notice: str, gives_way: bool = False) -> None: ...

    def trouble(self, kind: str, text: str) -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...

    def redraw(self) -> None: ...


class AppProof:
    """For the interface's thread."""

    def __init__(self, context: _ProofHost) -> None:
        self._context = context
        self._worker = ThreadPoolExecutor(1, "checkout")
        self._checkout: Checkout | None = None
        self._site: Site | None = None
        self.state: ProofState | None = None
        self.chosen: list[ClaimKey] = []
        """Asked for by hand, in this session."""
        self.who = ""
        self.under_way = ""
        self.there: tuple[There, ...] = ()
        """What is not as the site says, as it was asked last."""
        self.asking_there: Future[list[There]] | None = None

    # How it stands

    def look(self, site: Site, path: Path) -> None:
        """Claims of this site: read once, and again where site or sheet are others."""
        if self._site is not site:
            self._site = site
            self._worker.submit(self._open, site, path)
        else:
            self._worker.submit(self._read_again)

    def _open(self, site: Site, path: Path) -> None:
        from kanaleto.proof.checkout import Checkout, sheet_path
        from kanaleto.proof.sheet import CannotKeep

        try:
            sheet = sheet_path(path)
            if self._checkout is not None and self._checkout.sheet.path == sheet:
                self._checkout.site = site
                self._checkout.look()
            else:
                self._checkout = Checkout(site, sheet)
        except (CannotKeep, OSError) as error:
            self._checkout = None
            self._publish(ProofState(trouble=str(error)))
            return
        self._say()

    def _read_again(self) -> None:
        from kanaleto.proof.sheet import CannotKeep

        try:
            if self._checkout is None:
                return
            with self._checkout.turn:
                is_other = self._checkout.look()
            if is_other:
                self._say()
        except (CannotKeep, OSError) as error:
            self._publish(ProofState(trouble=str(error)))

    def _say(self) -> None:
        checkout = self._checkout
        assert checkout is not None
        with checkout.turn:
            claims = tuple(checkout.claims(chosen=tuple(self.chosen)))
            messages = (*checkout.sheet.messages, *checkout.gone(claims))
        self._publish(ProofState(claims, messages, checkout.sheet.begun))

    def _publish(self, state: ProofState) -> None:
        def shown() -> None:
            self.state = state
            self._context.redraw()

        self._context.later(shown)

    def choose(self, key: "ClaimKey") -> None:
        """Ask for something that the map does not."""
        self.chosen.append(key)
        self._worker.submit(self._say)

    # Evidence

    def keep(self, key: "ClaimKey", make: MakeLine, words_of: Callable[["SheetLine"], str]) -> None:
        """One more line, made on the worker of what stands there then."""
        self._worker.submit(self._keep, key, make, words_of)

    def _keep(self, key: "ClaimKey", make: MakeLine, words_of: Callable[["SheetLine"], str]) -> None:
        from kanaleto.editing.presence import user_name
        from kanaleto.proof.claims import replacing
        from kanaleto.proof.sheet import CannotKeep
        from kanaleto.proof.taking import NoEvidence

        checkout = self._checkout
        if checkout is None:
            self._report("the checkout sheet could not be read, so nothing was kept")
            return
        try:
            with checkout.turn:
                checkout.look()
                who = self.who or user_name()
                claims = checkout.claims([key.device], self.chosen)
                line = make(checkout, who, replacing(claims, key, checkout.sheet.lines, who))
                checkout.keep([line], self._context.engine.session.clock.now())
        except (CannotKeep, NoEvidence, ValueError, OSError) as error:
            self._report(str(error))
            return
        self._say()
        self._report(words_of(line))

    def merge(self, other: Path) -> None:
        """Take the lines of somebody else's sheet."""
        self._worker.submit(self._merge, other)

    def _merge(self, other: Path) -> None:
        from kanaleto.proof.sheet import CannotKeep

        if self._checkout is None:
            self._report("the checkout sheet could not be read, so nothing was taken over")
            return
        try:
            with self._checkout.turn:
                count = self._checkout.merge(other, self._context.engine.session.clock.now())
        except (CannotKeep, OSError) as error:
            self._report(str(error))
            return
        self._say()
        self._report(f"{count} line{'s' if count != 1 else ''} of {other.name} taken over")

    def ask_there(self, site: Site, path: Path, devices: Sequence[str]) -> None:
        """Ask the devices whether they are as the site says; `there` has what differs then."""
        from kanaleto.proof.there import check_there, known_of

        if self.asking_there is not None and not self.asking_there.done():
            return
        known = known_of(site, path)
        self.there = ()
        self.asking_there = done = self._context.engine.run(
            check_there(self._context.engine.session, known, devices, False, lambda one: None)
        )

        def came(done: "Future[list[There]]") -> None:
            error = done.exception() if not done.cancelled() else None
            if done.cancelled() or error is not None:
                self._report("stopped" if error is None else str(error))
                return
            found = done.result()
            wrong = tuple(one for one in found if not one.is_same)

            def shown() -> None:
                self.there = wrong
                text = f"{len(wrong)} of {len(found)} answers differ" if wrong else f"{len(found)} answers as noted"
                self._context.tell(text)
                self._context.redraw()

            self._context.later(shown)

        done.add_done_callback(came)

    def _report(self, text: str) -> None:
        self._context.later(lambda: self._context.tell(text))

    def ask(
        self, key: "ClaimKey", what: str, asked: "Callable[[Session], Coroutine[Any, Any, Any]]",
        make: Callable[[Any], MakeLine], words_of: Callable[["SheetLine"], str],
    ) -> "Future[Any]":  # fmt: skip
        """Ask on the engine's loop, then keep what `make` makes of the answer."""
        self.under_way = what
        done = self._context.engine.run(asked(self._context.engine.session))

        def came(done: "Future[Any]") -> None:
            def shown() -> None:
                self.under_way = ""
                self._context.redraw()

            self._context.later(shown)
            error = None if done.cancelled() else done.exception()
            if done.cancelled():
                self._report("nothing was taken")
            elif error is not None:
                self._report(str(error))
            else:
                self.keep(key, make(done.result()), words_of)

        done.add_done_callback(came)
        self._context.redraw()
        return done

    def keep_sequences(self, name: str, verdicts: "Sequence[SequenceVerdict]") -> None:
        """What a rehearsal came to, once it is over."""
        site, path = self._context.engine.snapshot.site, self._context.door.opened.path
        self._worker.submit(self._keep_sequences, site, path, name, verdicts)

    def _keep_sequences(self, site: Site, path: Path, name: str, verdicts: "Sequence[SequenceVerdict]") -> None:
        from kanaleto.proof.sequences import keep_sequences
        from kanaleto.proof.sheet import CannotKeep

        if self._checkout is None:
            self._open(site, path)
        if self._checkout is None:
            return
        try:
            count = keep_sequences(self._checkout, name, verdicts, self._context.engine.session.clock.now(), self.who)
        except (CannotKeep, OSError) as error:
            self._report(str(error))
            return
        self._say()
        if count:
            self._report(f"{name}: {count} verdict{'s' if count != 1 else ''} on the checkout sheet")

    async def prove(self, wanted: "ProveWanted") -> tuple[bool, str]:
        """For routines, on the engine's loop."""
        from kanaleto.control.condition import ConditionFailed
        from kanaleto.proof.checkout import take_for_routine

        if self._checkout is None:  # the view was not looked at yet
            site, path = self._context.engine.session.site, self._context.door.opened.path
            await asyncio.wrap_future(self._worker.submit(self._open, site, path))
        checkout = self._checkout
        if checkout is None:
            raise ConditionFailed("the checkout sheet could not be read")
        came = await take_for_routine(checkout, self._context.engine.session, wanted, self.who)
        self._worker.submit(self._say)
        return came

    def close(self) -> None:
        self._worker.shutdown(wait=True)


def how_far(claims: Sequence["Claim"]) -> str:
    """How far a checkout is, in words."""
    from kanaleto.proof.claims import counts_of

    wanted = [claim for claim in claims if not claim.is_gone]
    counts = counts_of(wanted)
    left = sum(claim.is_left for claim in wanted)
    texts = [f"{counts['proved']} of {len(wanted)} proved"]
    texts += [f"{count} {word}" for word, count in counts.items() if count and word not in ("proved", "open")]
    return " · ".join([*texts, f"{left} to go" if left else "nothing is left"])
