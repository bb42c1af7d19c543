"""Devices of the open site that stand in, as the screen deals with them: begun and ended by one key, beside what is
polled or instead of it; by hand, by faults, by rehearsals.

What takes its time is done on threads of its own; what comes of it is reported.
"""

import time
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import Future
from contextlib import suppress
from pathlib import Path
from threading import Thread
from typing import TYPE_CHECKING, Any, Protocol

from msgspec.structs import replace

from kanaleto.editing.news import Change
from kanaleto.polling.engine import Engine, EngineEnded
from kanaleto.site.leading import Lead, led
from kanaleto.site.links.link import Link, is_loopback, is_same_place
from kanaleto.site.model import Device, Line
from kanaleto.site.origin import Origin

if TYPE_CHECKING:
    from kanaleto.bench.standins import Served, StandIns
    from kanaleto.bench.states import BenchState
    from kanaleto.control.control import Control
    from kanaleto.editing.door import Door
    from kanaleto.tui.shared.proofing import AppProof

_LEAVE_S, _SERVE_S, _TAKE_S, _CLONE_S = 8.0, 120.0, 30.0, 1800.0
_TWICE_S = 0.6  # a second press so soon is no decision


class _BenchHost(Protocol):
    """What this needs of the screen."""

    engine: Engine
    proof: "AppProof"

    @property
    def door(self) -> "Door": ...

    @property
    def control(self) -> "Control": ...

    def tell(self, notice: str) -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool: ...


class AppBench:
    """For the interface's thread, but for `led` and `follow`, which the site's editor calls."""

    def __init__(self, context: _BenchHost) -> None:
        self._context = context
        self._stand_ins: StandIns | None = None
        self._leads: dict[str, Lead] = {}
        self._under_way: dict[str, str] = {}
        self._turned_s = 0.0  # when a line was led elsewhere last
        self._is_playing = False

    # How it stands

    @property
    def served(self) -> "Mapping[str, Served]":
        """By line."""
        return self._stand_ins.served if self._stand_ins is not None else {}

    @property
    def leads(self) -> Mapping[str, Lead]:
        """Lines that are led to what stands in for them."""
        return self._leads

    @property
    def state(self) -> "BenchState | None":
        return self._stand_ins.state if self._stand_ins is not None else None

    @property
    def silent_s(self) -> float:
        """For how long its process has said nothing."""
        stand_ins = self._stand_ins
        if stand_ins is None or not stand_ins.served or not stand_ins.heard_s:
            return 0.0
        return time.monotonic() - stand_ins.heard_s

    def under_way(self, line: str) -> str:
        """What is being done about a line just now, in words."""
        return self._under_way.get(line, "")

    def is_served(self, line: str, device: str) -> bool:
        served = self.served.get(line)
        return served is not None and (not served.devices or device in served.devices)

    def tell_nobody(self, line: str) -> None:
        """Why nothing can be done to what stands in, where nothing does (yet)."""
        if not self._is_busy(line):
            self._context.tell("nobody stands in: B begins")

    def at_tick(self) -> None:
        """What a rehearsal came to goes onto the checkout sheet once it is over, whichever view is in sight. At each
        tick."""
        state = self.state
        rehearsal = state.rehearsal if state is not None else None
        if rehearsal is None or not rehearsal.is_over:
            self._is_playing = rehearsal is not None
        elif self._is_playing:
            from kanaleto.proof.sequences import SequenceVerdict

            self._is_playing = False
            expects = [(step.target, expect) for step in rehearsal.steps for expect in step.expects]
            verdicts = [
                SequenceVerdict(target, expect_state.text, expect_state.outcome, expect_state.reason)
                for target, expect_state in expects
            ]
            self._context.proof.keep_sequences(rehearsal.name, verdicts)

    # Beside what is polled

    def turn(self, line: Line, devices: Collection[str]) -> None:
        """Begin to stand in for these devices, beside what is polled, or end it where all of them stand in."""
        if self._is_busy(line.name):
            return
        if line.name in self._leads:
            self._context.tell(f"{line.name} is led to what stands in for it: I ends that")
            return
        names = [device.name for device in line.devices]
        now = [name for name in names if self.is_served(line.name, name)]
        if all(name in now for name in devices):
            left = [name for name in now if name not in devices]
            if not left:
                self._work(line.name, "is ended", lambda: self._end(line.name))
                return
            wanted = left
        else:
            wanted = [name for name in names if name in now or name in devices]
        chosen = () if len(wanted) == len(names) else tuple(wanted)
        self._work(line.name, "begins to be stood in for", lambda: self._serve(line, chosen))

    def turn_at(self, line: Line, devices: Collection[str], text: str) -> str | None:
        """Stand in at a place that was typed; why not, or nothing."""
        from kanaleto.bench.freeplaces import at_link

        try:
            place = at_link(line, text.strip())
        except ValueError as error:
            return str(error)
        if line.name in self._leads:
            return f"{line.name} is led to what stands in for it: I ends that"
        used = next(
            (line for line in self._context.engine.snapshot.site.lines if is_same_place(line.link, place)), None
        )
        if used is not None:
            return f"{used.name} of this site is polled at {place.place}: B stands in at a free place"
        if not self._is_busy(line.name):
            names = [device.name for device in line.devices]
            wanted = [name for name in names if self.is_served(line.name, name) or name in devices]
            chosen = () if len(wanted) == len(names) else tuple(wanted)
            self._work(line.name, "begins to be stood in for", lambda: self._serve_at(line, chosen, place))
        return None

    def _serve_at(self, line: Line, devices: tuple[str, ...], place: Link) -> str:
        from kanaleto.bench.standins import BenchRefused

        try:
            return self._serve(line, devices, place)
        except BenchRefused as error:
            raise BenchRefused(f"{error}; B stands in at a free place") from None

    @property
    def open_lines(self) -> list[str]:
        """Lines at which whoever reaches this machine may ask."""
        return [
            name for name, served in self.served.items()
            if served.link.address is not None and not is_loopback(served.link.address[0])
        ]  # fmt: skip

    def _serve(self, line: Line, devices: tuple[str, ...], place: Link | None = None) -> str:
        from kanaleto.bench.standins import Served

        stand_ins, before = self._begun(), self.served.get(line.name)
        if place is None and before is not None:
            place = before.link
        if place is None:
            place = self._serve_anywhere(stand_ins, line, devices)
        else:
            stand_ins.serve(Served(line.name, place, devices)).result(_SERVE_S)
        who = f"{len(devices)} of {line.name}" if len(devices) > 1 else devices[0] if devices else line.name
        return f"{who} stands in at {place.place}: 5 shows what masters do there, B ends it"

    def _serve_anywhere(self, stand_ins: "StandIns", line: Line, devices: tuple[str, ...]) -> Link:
        """At a place that nobody has; somebody may take it in the same moment, and then at another one."""
        from kanaleto.bench.freeplaces import free_place
        from kanaleto.bench.standins import BenchTaken, Served

        taken = [served.link for served in self.served.values()]
        while True:
            place = free_place(self._path(), _real(line), taken)
            try:
                stand_ins.serve(Served(line.name, place, devices)).result(_SERVE_S)
            except BenchTaken:
                taken.append(place)
            else:
                return place

    def _end(self, line: str) -> str:
        from kanaleto.bench.standins import BenchRefused

        assert self._stand_ins is not None
        with suppress(BenchRefused):  # its process has gone: nobody stands in already
            self._stand_ins.end(line).result(_LEAVE_S)
        return f"nobody stands in for {line} any more"

    # Instead of it

    def turn_instead(self, line: Line) -> None:
        """Lead the line to what stands in for it, or back to its own devices."""
        if self._is_busy(line.name):
            return
        if time.monotonic() - self._turned_s < _TWICE_S:
            self._context.tell(f"{line.name} was led elsewhere just now: press I again if you mean it")
            return
        is_back = line.name in self._leads
        what = f"leading {line.name} {'back' if is_back else 'to a stand-in'}"
        if not self._context.is_sure("I", what, {line.name}):
            return
        if is_back:
            self._work(line.name, "is led back", lambda: self._lead_back(line.name))
        else:
            self._work(line.name, "is led to a stand-in", lambda: self._lead(line))

    def _lead(self, line: Line) -> str:
        before = self.served.get(line.name)
        self._serve(line, ())  # first, so that nothing ends on the line for what does not come about
        try:
            owed = self._leave(line, f"{line.name} is led to a stand-in")
            if owed:
                self._serve(line, before.devices) if before is not None else self._end(line.name)
                return f"{line.name} is not led elsewhere: {owed[0]} — H lists it; give it back first"
            place = self.served[line.name].link
            self._leads = {**self._leads, line.name: Lead(line.link, place)}
            text = f"{line.name} is led to a stand-in at {place.place}"
            try:
                self._context.door.take_over_again(text).result(_TAKE_S)
            except Exception:
                self._leads = {name: lead for name, lead in self._leads.items() if name != line.name}
                raise
            self._turned_s = time.monotonic()
            return f"{line.name} is led to a stand-in, and locked; nothing of it is saved, I leads it back"
        finally:
            self._context.control.lock.kept_shut = ""

    # Read through a service

    def turn_through(self, line: Line, place: Link | None) -> None:
        """Read the line at `place`, where a service that holds its port lets others read; None: at its own port
        again."""
        if self._is_busy(line.name):
            return
        if place is None:
            self._work(line.name, "is led back", lambda: self._lead_back(line.name))
        else:
            self._work(line.name, "is read through a service", lambda: self._read_through(line, place))

    def _read_through(self, line: Line, place: Link) -> str:
        text = f"{line.name} is read through a service at {place.place}"
        try:
            owed = self._leave(line, text)
            if owed:
                return f"{line.name} is not read elsewhere: {owed[0]} — H lists it; give it back first"
            self._leads = {**self._leads, line.name: Lead(line.link, place, Origin.BRIDGE)}
            try:
                self._context.door.take_over_again(text).result(_TAKE_S)
            except Exception:
                self._leads = {name: lead for name, lead in self._leads.items() if name != line.name}
                raise
            return f"{text}; nothing of it is saved, J leads it back"
        finally:
            self._context.control.lock.kept_shut = ""

    def _lead_back(self, name: str) -> str:
        line = next((line for line in self._context.engine.snapshot.site.lines if line.name == name), None)
        try:
            left = self._leave(line, f"{name} is led back to its devices") if line is not None else []
            control = self._context.control
            if left:  # they stood in: nothing can be owed to them any more
                why = "what stood in for its device has gone"
                self._context.engine.do(lambda session: control.owings.give_up({name}, why)).result(_LEAVE_S)
            is_stand_in = self._leads[name].origin is Origin.STAND_IN
            self._leads = {leader: lead for leader, lead in self._leads.items() if leader != name}
            text = f"{name} is led to its own devices again"
            self._context.door.take_over_again(text).result(_TAKE_S)
            if is_stand_in:
                self._end(name)
            self._turned_s = time.monotonic()
            return f"{text}, and locked" + (f"; not confirmed: {left[0]}" if left else "")
        finally:
            self._context.control.lock.kept_shut = ""

    def _leave(self, line: Line, why: str) -> list[str]:
        """All that acts on the line ends, and its devices lock until its other end is there; what is owed still."""
        control, engine = self._context.control, self._context.engine
        lock = control.lock
        devices = [device.name for device in line.devices]
        lock.kept_shut = f"writing is locked for a moment: {why}"
        if any(lock.is_unlocked(name) for name in devices):
            engine.do(lambda session: control.lock_now(f"writing was locked: {why}; u unlocks it")).result(_LEAVE_S)
        return engine.run(control.leave_lines({line.name}, why)).result(_LEAVE_S)

    # By hand, faults, rehearsals

    def do(self, do: str, **keys: Any) -> None:
        """Whatever its process understands; what comes of it is reported."""
        self._tell_of(self._begun().command(do, **keys))

    def ask(self, do: str, **keys: Any) -> "Future[str]":
        """The same, for a line that is typed into: what was typed stays there where it is refused."""
        return self._begun().command(do, **keys)

    def fault(self, target: str, name: str, keys: dict[str, Any]) -> None:
        self._tell_of(self._begun().fault(target, name, keys))

    def mend(self, target: str, name: str) -> None:
        self._tell_of(self._begun().mend(target, name))

    def look(self, device: str) -> None:
        if self._stand_ins is not None:
            self._stand_ins.look(device)

    # Clones

    def clone(self, line: Line, devices: Sequence[Device], out: Path) -> None:
        """Copy devices as they answer now, beside what is polled, into a site of their own. What comes of it is
        reported."""
        from kanaleto.bench.clonefile import ClonedLine, EditedSince, count_differences, placed, write_clone
        from kanaleto.bench.cloning import Cloner, Copied, Silent
        from kanaleto.bench.standins import BenchRefused

        engine, name = self._context.engine, self._context.engine.snapshot.site.name
        tell, is_serial = self._tell_later, line.link.is_serial

        async def ask() -> list[Copied]:
            asks = engine.session.asks_on(line.link)
            if asks is None:
                raise BenchRefused(f"{line.name} is not polled now: space resumes it, ctrl+p switches it on")
            found: list[Copied] = []
            for device in devices:
                with suppress(Silent):
                    found.append(await Cloner(asks, device, device.timeout_s, is_serial=is_serial, tell=tell).run())
            return found

        def work() -> str:
            copies = engine.run(ask()).result(_CLONE_S)
            if not copies:
                return f"{line.name}: nobody answered, nothing was cloned"
            lines = placed([ClonedLine(line, line.link, copies)])
            try:
                write_clone(out, name, lines)
            except (EditedSince, OSError) as error:
                return f"not cloned: {error}"
            counts = count_differences(out, lines)
            wrong = f", {sum(counts.values())} requests are answered otherwise" if any(counts.values()) else ""
            who = copies[0].device.name if len(copies) == 1 else f"{len(copies)} devices"
            return f"{who} cloned to {out}{wrong}: kanaleto serve {out.name} serves it"

        self._work(f"{line.name} (clone)", "is copied", work)

    # The site

    def led(self, change: Change) -> Change:
        """The site as it is polled; whose lines are not there any more are not led any more."""
        if change.is_another:
            self._leads = {}
            return change
        site, self._leads, _ = led(change.site, self._leads)
        return replace(change, site=site)

    def follow(self, change: Change) -> None:
        """What stands in goes on as the site is now; what of it is not there any more ends, and is reported."""
        stand_ins = self._stand_ins
        if stand_ins is None:
            return
        stand_ins.follow(change.where, change.is_another)
        lines = {line.name: [device.name for device in line.devices] for line in change.site.lines}
        for name, served in list(stand_ins.served.items()):
            if name not in lines:
                stand_ins.end(name)
                led_as = next((leader for leader, lead in self._leads.items() if lead.place == served.link), "")
                if led_as:
                    self._tell_failure(led_as, stand_ins.serve(replace(served, line=led_as)))
                else:
                    self._tell_later(f"{name} is no line of the site any more: nobody stands in for it")
            elif served.devices and not set(served.devices) <= set(lines[name]):
                left = tuple(device for device in served.devices if device in lines[name])
                gone = next(device for device in served.devices if device not in left)
                self._tell_later(f"{gone} is no device of {name} any more: nobody stands in for it")
                if left:
                    self._tell_failure(name, stand_ins.serve(replace(served, devices=left)))
                else:
                    stand_ins.end(name)

    def _tell_failure(self, line: str, done: "Future[str]") -> None:
        def came(done: "Future[str]") -> None:
            error = done.exception()
            if error is not None:
                self._tell_later(f"{line}: nobody stands in: {error}")

        done.add_done_callback(came)

    def close(self) -> None:
        """The program ends: nobody stands in any more."""
        if self._stand_ins is not None:
            self._stand_ins.close()

    # Threads

    def _begun(self) -> "StandIns":
        if self._stand_ins is None:
            from kanaleto.bench.standins import StandIns

            self._stand_ins = StandIns(self._tell_later)
            self._stand_ins.follow(self._context.door.opened.path, is_another=True)
        return self._stand_ins

    def _path(self) -> Path:
        return self._context.door.opened.path

    def _is_busy(self, line: str) -> bool:
        if line in self._under_way:
            self._context.tell(f"{line} {self._under_way[line]} just now, wait a moment")
            return True
        return False

    def _work(self, line: str, what: str, work: Callable[[], str]) -> None:
        """On a thread of its own, one thing a line."""
        self._under_way = {**self._under_way, line: what}
        self._context.tell(f"{line} {what} …")

        def run() -> None:
            from kanaleto.bench.freeplaces import NoPlace
            from kanaleto.bench.standins import BenchRefused

            try:
                text = work()
            except (BenchRefused, NoPlace, EngineEnded) as error:
                text = f"{line}: nothing stands in: {error}"
            except TimeoutError:
                text = f"{line}: it takes too long, and is given up"
            except Exception as error:  # whatever it is, it is reported, and the rest goes on
                text = f"{line}: {error}"
            finally:
                self._under_way = {name: work for name, work in self._under_way.items() if name != line}
            self._tell_later(text)

        Thread(target=run, name="stand in", daemon=True).start()

    def _tell_of(self, done: "Future[str]") -> None:
        def came(done: "Future[str]") -> None:
            error = done.exception()
            text = str(error) if error is not None else done.result()
            if text:
                self._tell_later(text)

        done.add_done_callback(came)

    def _tell_later(self, text: str) -> None:
        self._context.later(lambda: self._context.tell(text))


def _real(line: Line) -> Line:
    return replace(line, link=line.led_from) if line.led_from is not None else line
