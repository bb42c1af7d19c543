"""Proof: the checkout sheet. What is to be proved, what was seen, what is left; `enter` takes what is seen now."""

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.board.snapshot import Snapshot
from kanaleto.proof.claims import Claim, ClaimState, claims_of
from kanaleto.proof.there import There
from kanaleto.site.model import Site
from kanaleto.tui.proof_view.details import Evidence, StillOpen
from kanaleto.tui.proof_view.rows import (
    ClaimRow,
    ProofRows,
    ThereRow,
    device_here,
    key_here,
    next_left,
    of_snapshot,
)
from kanaleto.tui.proof_view.taking import Taking
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells, cut
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.proofing import ProofState, how_far
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import LookAtDevice, ShowPoint
from kanaleto.tui.shared.words import wrapped

ACTIONS = (
    Action("enter", "take", "take as evidence", "read it now and keep what is seen as evidence"),
    Action("right_square_bracket", "next", "next to be proved", "the next claim that is still to be proved", "]"),
    Action("V", "verdict", "verdict by hand", "passed, failed, skipped or withdrawn, on a person's word"),
    Action("N", "note", "note", "a note on the claim, kept with who and when"),
    Action("o", "choose", "what is to be proved", "prove and tolerance of the point, or of all points of a device"),
    Action("c", "cable", "cable pulled", "prove that the device is missed and comes back when its cable is pulled"),
    Action("a", "as_left", "as found or as left", "evidence counts as found, or as left after it was put right"),
    Action("t", "there", "what is there", "ask the devices, read only, whether they are as the site says"),
    Action("M", "merge", "merge a sheet", "take over the lines of somebody else's sheet"),
    Action("x", "export", "papers", "report, site drawing, register maps, handover"),
)
_ABOUT = (
    "Proof says what of this site has been proved against the real thing, and what is left. A map gives its points;"
    " enter takes evidence. 2 adds a map, docs/proof.md says more."
)


class ProofHead(Drawn):
    DEFAULT_CSS = "ProofHead { height: 4; }"
    rows: tuple[Cells, ...] = ()

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        return self.rows[y].strip(width) if y < len(self.rows) else Cells(self.palette).strip(width)


class ProofView(View, Vertical):
    digit, title, about = "7", "Proof", "go to the checkout: what is proved, and what is left"
    actions = ACTIONS

    def compose(self) -> ComposeResult:
        with Vertical(id="proof-main"):
            yield ProofHead()
            yield ProofRows()
            yield Filter(self.focus_rows)
            yield StillOpen()
        yield Evidence()

    def on_mount(self) -> None:
        one = self.query_one
        self._head, self._rows, self._filter = one(ProofHead), one(ProofRows), one(Filter)
        self._open, self._evidence = one(StillOpen), one(Evidence)
        self._rows.when_moved = self.context.redraw
        self._taking = Taking(self.context)
        self._filled: object = None
        self._looked = -1
        self._shows_there = False
        self._wanted_of: tuple[Site, tuple[Claim, ...]] | None = None

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        proof, path = self.context.proof, self.context.door.opened.path
        second = int(snapshot.now_s)
        if self._looked != second:  # somebody else may have appended
            self._looked = second
            proof.look(snapshot.site, path)
        state = proof.state
        self._rows.empty_text = "the sheet is being read" if state is None else self._filter.text or "no points yet"
        claims = state.claims if state is not None else self._wanted(snapshot)
        there = proof.there if self._shows_there else ()
        filled = (id(state), self._filter.value, snapshot.version, there)
        if self._filled != filled:
            self._filled = filled
            shown = [(claim, f"{claim.key} {claim.key.claim} {claim.state.value}") for claim in claims]
            if there:
                self._rows.fill_there(there)
            else:
                self._rows.fill([claim for claim, text in shown if self._filter.matches(text)], of_snapshot(snapshot))
        self._rows.under_way = self._taking.key
        width, height = self.size.width, self.size.height
        self.set_class(width < 120, "-narrow")
        self.set_class(height < 26, "-low")
        self._head.rows = tuple(self._head_rows(state))
        self._open.claims, self._open.messages = claims, state.messages if state is not None else ()
        self._show_evidence(claims)
        for widget in (self._head, self._rows, self._open, self._evidence):
            widget.redraw()

    def _wanted(self, snapshot: Snapshot) -> tuple[Claim, ...]:
        """What maps ask for, as long as the sheet is not read: keys that were typed ahead find their claims."""
        if self._wanted_of is None or self._wanted_of[0] is not snapshot.site:
            self._wanted_of = (snapshot.site, tuple(claims_of(snapshot.site, ())))
        return self._wanted_of[1]

    def _show_evidence(self, claims: Sequence[Claim]) -> None:
        row = self._rows.current
        claim = row.claim if isinstance(row, ClaimRow) else None
        self._evidence.claim = claim
        self._evidence.of_point = tuple(
            other for other in claims
            if claim is not None and (other.key.device, other.key.point) == (claim.key.device, claim.key.point)
        )  # fmt: skip
        self._evidence.point = self._rows.points.get((claim.key.device, claim.key.point)) if claim is not None else None

    def _head_rows(self, state: ProofState | None) -> list[Cells]:
        width = max(self._head.size.width, 30)
        cells = Cells(self.palette).put(" ")
        if state is not None and state.trouble:
            return [cells.put(state.trouble, "terracotta", width - 2), Cells(self.palette), self._rows.head(width)]
        if state is not None and not state.claims:
            texts = wrapped(_ABOUT, width - 2)
            return [Cells(self.palette).put(" ").put(text, "muted") for text in texts[:3]]
        cells.put(f"Checkout of {self.snapshot.site.name}", bold=True)
        claims = state.claims if state is not None else ()
        begun = f"  begun {state.begun[:10]}," if state is not None and state.begun else " "
        cells.put(f"{begun} {how_far(claims)}" if claims else "  …", "muted", max(width - cells.width - 1, 0))
        as_left = "as left: a turns it" if self._taking.is_as_left else ""
        if isinstance(self._rows.current, ThereRow):
            differs = Cells(self.palette).put(
                " what is not as the site says; enter goes there, escape to the claims", "ochre"
            )
            return [cells, Cells(self.palette), differs, Cells(self.palette)]
        bars, names = self._bars(claims, width)
        return [cells, bars.put("  ").put(as_left, "ochre"), names, self._rows.head(self._rows.size.width or width)]

    def _bars(self, claims: Sequence[Claim], width: int) -> tuple[Cells, Cells]:
        """A bar a device, and its name below: how much of it is done."""
        bars, names = Cells(self.palette).put(" "), Cells(self.palette).put(" ")
        by_device: dict[str, list[Claim]] = {}
        for claim in claims:
            by_device.setdefault(claim.key.device, []).append(claim)
        size = min(max((width - 22) // max(len(by_device), 1), 3) - 1, 11)
        for name, of_device in by_device.items():
            done = sum(not claim.is_left for claim in of_device) * size // len(of_device)
            rehearsed = sum(claim.state is ClaimState.REHEARSED for claim in of_device) * size // len(of_device)
            wrong = sum(claim.state in (ClaimState.FAILED, ClaimState.DISPUTED) for claim in of_device)
            wrong = min(-(-wrong * size // len(of_device)), size - done - rehearsed)
            bars.put("█" * done, "verdigris").put("▒" * rehearsed, "sky").put("█" * wrong, "terracotta")
            bars.put("─" * (size - done - rehearsed - wrong), "rules").put(" ")
            names.put(cut(name, size), "muted", size).put(" ")
        return bars, names

    # Keys

    def focus_rows(self) -> None:
        self.screen.set_focus(self._rows)

    def open_filter(self) -> None:
        self._filter.open()

    def back(self) -> None:
        if self._taking.cancel():
            return
        self._shows_there = False
        if self._filter.value:
            self._filter.clear_filter()
        self.context.redraw()

    def keys_here(self) -> list[Key]:
        if self._taking.key is not None:
            return [("escape", "stop looking"), *self.keys_of("next")]
        row = self._rows.current
        if isinstance(row, ThereRow):
            return [*self.keys_of("take", take="go there"), ("escape", "back to the claims")]
        if isinstance(row, ClaimRow):
            return self.keys_of("take", "next", "verdict", "note", "choose", "export")
        return self.keys_of("next", "cable", "choose", "there", "export")

    @property
    def device_here(self) -> str:
        return device_here(self._rows.current)

    def would_be_lost(self) -> list[str]:
        return ["evidence is being taken"] if self._taking.key is not None else []

    def action_take(self) -> None:
        row = self._rows.current
        if isinstance(row, ThereRow):
            self._go_to(row.there)
            return
        if not isinstance(row, ClaimRow):
            self.context.presses.refused("put the cursor on a claim; ] goes to the next that is left")
            return
        self._taking.take(row.claim)

    def _go_to(self, there: There) -> None:
        """To where it is mended: the point, or the device's map."""
        found = self.snapshot.status_of(there.device)
        if there.point:
            self.context.send(ShowPoint((there.device, there.point)))
        elif found is not None:
            self.context.send(LookAtDevice(found[0].line.link, found[1].device.unit_id))

    def action_there(self) -> None:
        self._shows_there = True
        self.context.tell("the devices are asked once each, read only …")
        self.context.proof.ask_there(self.snapshot.site, self.context.door.opened.path, ())

    def action_next(self) -> None:
        at = next_left(self._rows.rows, self._rows.cursor)
        if at is None:
            self.context.tell("nothing is left to be proved")
        else:
            self._rows.place_cursor(at)
            self.context.redraw()

    def action_verdict(self) -> None:
        key = key_here(self._rows.current)
        if key is None:
            self.context.presses.refused("put the cursor on a claim")
        else:
            self._taking.ask_verdict(key)

    def action_note(self) -> None:
        row = self._rows.current
        if isinstance(row, ClaimRow):
            self._taking.ask_note(row.claim)
        else:
            self.context.presses.refused("put the cursor on a claim")

    def action_choose(self) -> None:
        row = self._rows.current
        self._taking.ask_what(device_here(row), row.claim.key.point if isinstance(row, ClaimRow) else "")

    def action_cable(self) -> None:
        device = device_here(self._rows.current)
        if device:
            self._taking.choose_loss(device)
        else:
            self.context.tell("put the cursor on a device")

    def action_as_left(self) -> None:
        self._taking.is_as_left = not self._taking.is_as_left
        self.context.tell("evidence counts as left now" if self._taking.is_as_left else "evidence counts as found now")
        self.context.redraw()

    def action_merge(self) -> None:
        self._taking.ask_merge()

    def action_export(self) -> None:
        from kanaleto.tui.proof_view.papers import ask_papers

        ask_papers(self.context)
