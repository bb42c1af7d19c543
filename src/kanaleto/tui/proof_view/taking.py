"""What `enter` and its neighbours do in Proof: a reading, a write, a limit, a cable; verdicts and notes by hand."""

from concurrent.futures import Future
from typing import Any

from msgspec.structs import replace

from kanaleto.control.order import Result
from kanaleto.editing.adding import set_origin
from kanaleto.editing.news import Done
from kanaleto.editing.pointedit import change_points
from kanaleto.files.maprows import assignments, split_assignments
from kanaleto.files.origins import is_declared, origin_of
from kanaleto.planning.plan import Place
from kanaleto.proof.checkout import Checkout, expectation
from kanaleto.proof.claims import Claim, place_of
from kanaleto.proof.sheet import VERDICTS, ClaimKey, SheetLine, new_id
from kanaleto.proof.taking import Expected, by_hand, expected_by_itself, iso_of, judged, read_now
from kanaleto.proof.watching import limit_line, loss_line, watch_feedback, watch_loss, write_line
from kanaleto.site.model import Device, Line, Point
from kanaleto.site.origin import Origin
from kanaleto.site.proving import parse_prove, parse_tolerance, prove_text, tolerance_text
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.proofing import MakeLine
from kanaleto.tui.write.points import write_points

_CABLE_S = 600.0
_MOST_NOTE = 2000


class Taking:
    """`key` is the claim for which something is being asked or watched now."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._proof = context.proof
        self.key: ClaimKey | None = None
        self.is_as_left = False
        self._asked: Future[Any] | None = None
        self._asked_origin: set[str] = set()
        self._writing: tuple[ClaimKey, Line, Device, Point] | None = None
        self._listens = False

    def _key(self, claim: Claim) -> ClaimKey:
        return replace(claim.key, when="left") if self.is_as_left else claim.key

    def take(self, claim: Claim) -> None:
        if self.key is not None:
            self._context.presses.refused("something is being looked at already: escape stops it")
            return
        found = place_of(self._context.snapshot.site, claim.key)
        if found is None or (claim.key.point and found[2] is None):
            self._context.presses.refused(f"{claim.key} is no point of the site any more")
            return
        line, device, point = found
        if self._asks_origin(line, lambda: self.take(claim)):
            return
        if claim.key.claim == "loss":
            self._watch_cable(claim.key, line, device)
        elif claim.key.claim == "sequence" or point is None:
            self._context.tell("what a routine or a rehearsal proves is taken by it; V says so by hand")
        elif claim.key.claim == "write":
            self._take_write(self._key(claim), line, device, point)
        elif claim.key.claim == "limit":
            self._take_limit(self._key(claim), line, device, point)
        else:
            self._take_value(self._key(claim), line, device, point)

    def cancel(self) -> bool:
        """Stop what is being looked at; whether there was something."""
        self._writing = None
        if self._asked is None or self._asked.done():
            self.key = None
            return False
        self._asked.cancel()
        return True

    def _begin(self, key: ClaimKey, asked: "Future[Any]") -> None:
        self.key, self._asked = key, asked
        asked.add_done_callback(lambda _: self._context.later(self._ended))

    def _ended(self) -> None:
        self.key = None
        self._context.redraw()

    # What answers there

    def _asks_origin(self, line: Line, then: Any) -> bool:
        """Ask once what answers on that line, where neither the site nor who serves it says so; whether it asked."""
        if line.origin or line.led_from is not None or line.name in self._asked_origin or is_declared(line):
            return False
        self._asked_origin.add(line.name)
        guess = origin_of(line).value

        def take(text: str) -> "Future[Done] | str | None":
            said = text.strip().lower()
            if said not in (Origin.REAL.value, Origin.STAND_IN.value):
                return "type real, or stand-in"
            from kanaleto.editing.presence import user_name

            who = self._proof.who or user_name()
            opened = self._context.door.opened
            return self._context.edit(set_origin(line.name, said, who), opened, lambda done: then())

        self._context.ask(f"what answers on {line.name}: real devices, or a stand-in? it is saved", guess, take)
        return True

    # A value or a state

    def _take_value(self, key: ClaimKey, line: Line, device: Device, point: Point) -> None:
        by_itself = expected_by_itself(point, key)
        if key.claim == "state" and key.level:
            self._read(key, line, device, point, Expected(by_itself, parse_tolerance("0")))
            return

        def take(text: str) -> str | None:
            try:
                expected = expectation(point, key, text, None)
            except ValueError as error:
                return str(error)
            self._read(key, line, device, point, expected)
            return None

        level = f" at {key.level}" if key.level else ""
        unit = f" ({point.unit})" if point.unit else ""
        self._context.ask(f"{point.name}{level}: the display shows{unit}", by_itself, take)

    def _read(self, key: ClaimKey, line: Line, device: Device, point: Point, expected: Expected) -> None:
        def make(seen: Any) -> MakeLine:
            return lambda checkout, who, replaces: judged(key, point, seen, expected, who, "", replaces)

        self._begin(
            key,
            self._proof.ask(
                key, "reading", lambda session: read_now(session, line, device, point), make,
                lambda sheet_line: f"{key}: {sheet_line.verdict}, seen {sheet_line.seen}",
            ),
        )  # fmt: skip

    # A limit, by crossing it

    def _take_limit(self, key: ClaimKey, line: Line, device: Device, point: Point) -> None:
        def make(seen: Any) -> MakeLine:
            return lambda checkout, who, replaces: limit_line(key, point, seen, who, replaces)

        self._begin(
            key,
            self._proof.ask(
                key, "reading", lambda session: read_now(session, line, device, point), make,
                lambda sheet_line: f"{key}: crossed at {sheet_line.seen}",
            ),
        )  # fmt: skip

    # A cable, pulled and put back

    def choose_loss(self, device: str) -> None:
        key = ClaimKey("loss", device, "")
        state = self._proof.state
        if state is None or all(claim.key != key for claim in state.claims):
            self._proof.choose(key)
            self._context.tell(f"{device}: the cable is to be pulled; enter there begins to watch")
        else:
            self._context.tell("it is among its claims already: enter there begins to watch")

    def _watch_cable(self, key: ClaimKey, line: Line, device: Device) -> None:
        def make(lost: Any) -> MakeLine:
            origin = origin_of(line).value
            return lambda checkout, who, replaces: loss_line(device, lost, line, who, origin, replaces)

        asked = self._proof.ask(
            key, "watching", lambda session: watch_loss(session, line, device, _CABLE_S), make,
            lambda sheet_line: f"{device.name}: {sheet_line.seen}",
        )  # fmt: skip
        self._begin(key, asked)
        self._context.tell(f"pull the cable of {device.name} now, and put it back: it is watched (escape stops it)")

    # A write, by the line that writes

    def _take_write(self, key: ClaimKey, line: Line, device: Device, point: Point) -> None:
        place = self._context.snapshot.place_of((device.name, point.name))
        if not isinstance(place, Place):
            return
        if not self._listens:
            self._listens = True
            orders = self._context.control.orders
            orders.listeners.append(lambda result: self._context.later(lambda: self._wrote(result)))
        self._writing = (key, line, device, point)
        write_points(self._context, [place.identity], place)

    def _wrote(self, result: Result) -> None:
        writing, order = self._writing, result.order
        if writing is None or result.needs is not None:
            return
        key, line, device, point = writing
        if (order.device, order.table, order.address) != (device.name, point.table, point.address):
            return
        self._writing = None
        if not result.is_done:
            self._context.tell(f"{key}: {result.text}")
            return
        data = order.data
        value: float | str = data[0] if point.table.is_bits else point.codec.decode(data)  # type: ignore[assignment]
        if isinstance(value, int) and value in point.labels:
            value = point.labels[value]

        def make(came: Any) -> MakeLine:
            seen, is_well = came
            return lambda checkout, who, replaces: write_line(key, point, value, seen, is_well, who, replaces)

        what = "watching its feedback" if point.writing.feedback else "reading it back"
        self._begin(
            key,
            self._proof.ask(
                key, what, lambda session: watch_feedback(session, line, device, point, value), make,
                lambda row: f"{key}: written {row.expected}, seen {row.seen}: {row.verdict}",
            ),
        )  # fmt: skip

    # By hand

    def ask_verdict(self, key: ClaimKey) -> None:
        key = replace(key, when="left") if self.is_as_left else key

        def take(text: str) -> str | None:
            verdict, _, note = text.strip().partition(" ")
            if verdict.lower() not in VERDICTS:
                return f"type {', '.join(VERDICTS[:-1])} or {VERDICTS[-1]}, and a note behind it"
            self._keep_by_hand(key, verdict.lower(), note.strip()[:_MOST_NOTE])
            return None

        self._context.ask(f"{key}: passed, failed, skipped or withdrawn; a note may follow", "", take)

    def _keep_by_hand(self, key: ClaimKey, verdict: str, note: str) -> None:
        found = place_of(self._context.snapshot.site, key)
        if found is None:
            self._context.tell(f"{key.device} is no device of the site any more: nothing was kept")
            return
        line, device, point = found
        origin = origin_of(line).value
        at = iso_of(self._context.engine.session.clock.now())

        def make(checkout: Checkout, who: str, replaces: list[str]) -> SheetLine:
            claims = checkout.claims([key.device], self._proof.chosen)
            return by_hand(
                key, verdict, who, at, note, claims, checkout.sheet.lines, point, origin, device.unit_id, line.name,
            )  # fmt: skip

        self._proof.keep(key, make, lambda sheet_line: f"{key}: {sheet_line.verdict}")

    def ask_note(self, claim: Claim) -> None:
        """A note is another line with the same judgement, in place of the one before."""
        before = claim.line
        if before is None:
            self._context.presses.refused("there is no evidence yet to note on; V gives a verdict with a note")
            return

        def take(text: str) -> None:
            note = text.strip()[:_MOST_NOTE]

            def make(checkout: Checkout, who: str, replaces: list[str]) -> SheetLine:
                return replace(before, id=new_id(), note=note, replaces=[before.id])

            self._proof.keep(claim.key, make, lambda taken: "noted")

        self._context.ask(f"a note on {claim.key}", before.note, take, is_added_to=bool(before.note))

    # What is to be proved

    def ask_what(self, device: str, point: str) -> None:
        """`prove` and `tolerance` of a point, or of all points of a device, in its map."""
        found = next(
            (each_device for _, each_device in self._context.snapshot.site.devices() if each_device.name == device),
            None,
        )
        if found is None:
            self._context.presses.refused("put the cursor on a device or a claim")
            return
        names = [point] if point else [point.name for point in found.points]
        cells = _cells_of(found, point)

        def take(text: str) -> "Future[Done] | str | None":
            try:
                typed = {key: value.strip() for _, key, value in split_assignments(text)}
                wrong = next((key for key in typed if key not in _WHAT), None)
                if wrong is not None:
                    return f"{wrong or text!r} is none of prove and tolerance"
                parse_prove(typed.get("prove", ""))
                if typed.get("tolerance"):
                    parse_tolerance(typed["tolerance"])
            except ValueError as error:
                return str(error)
            return self._context.edit(change_points(device, names, typed), None)

        whom = point or f"all {len(names)} points of {device}"
        self._context.ask(
            f"to be proved of {whom}", assignments(cells), take, is_added_to=True, listed=tuple(_WHAT.items())
        )

    # Somebody else's sheet

    def ask_merge(self) -> None:
        def take(text: str) -> str | None:
            from kanaleto.tui.shared.holder import expanded

            try:
                path = expanded(text)
            except ValueError as error:
                return str(error)
            if not path.is_file():
                return f"{path} is no file"
            self._proof.merge(path)
            return None

        self._context.ask("which sheet is taken over (a sheet.jsonl)", "", take)


_WHAT = {
    "prove": "once, levels in per cent of span as 0 25 50 75 100, each, write, limits, no; several with ;",
    "tolerance": "0.5 % (of span), 0.2 (in the unit), 1 % of value",
}


def _cells_of(device: Device, point: str) -> dict[str, str]:
    proved = next((proved for proved in device.points if proved.name == point), None)
    if proved is None:
        return {"prove": "once"}
    cells = {"prove": prove_text(proved.proving)}
    if proved.proving.tolerance is not None:
        cells["tolerance"] = tolerance_text(proved.proving)
    return cells
