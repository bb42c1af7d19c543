"""The process in which devices are simulated for the screen: `python -m kanaleto.bench.process`, spoken to by JSON
lines.

It hears commands on standard input, each an object with `do` and an `id`, and says on standard output what came of
each, how the bench stands a few times a second, its state once a second where that differs, and what is to be reported.
It ends when its standard input closes, so that it never outlives the one who started it.

open site [seed state] · serve line link [devices faults hear_s is_sure] · end line · edit [site] · put device point
text · freeze device point · give_back device point · undo · fault target name [keys] · mend target name · rehearse
file · stop_rehearsal · look device
"""

import asyncio
import os
import sys
import threading
from collections.abc import Awaitable, Callable
from contextlib import suppress
from pathlib import Path
from queue import Full, Queue
from typing import Any

import msgspec
from msgspec.structs import replace

from kanaleto.bench.bench import OF_LINE, Bench
from kanaleto.bench.faults import FaultWanted, wanted_fault
from kanaleto.bench.free import LEAST_HEAR_S, look_at, needs_hearing
from kanaleto.bench.looking import Looker
from kanaleto.bench.masters import Masters, as_csv
from kanaleto.bench.rehearsal import RehearsalRun, read_rehearsal
from kanaleto.bench.remembered import recall, state_of
from kanaleto.bench.server import StandIn
from kanaleto.files.loading import load_site
from kanaleto.files.origins import Serves, ServingMark
from kanaleto.files.whole import write_whole
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.openfiles import raise_limit
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.serving.network import CannotServe, PlaceTaken
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.parse import parse_link
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import Failure, Owned, follow, owned_task
from kanaleto.supervision.signals import on_signals

STATE_S, MEMORY_S = 0.25, 1.0
_BESIDE = ("serve", "end")
_MOST_WAITING = 200  # messages that nobody has read yet

Command = dict[str, Any]


class _Refused(Exception):
    """Why a command was not done, in one sentence."""


class BenchProcess:
    """`say` hands a message on; it may be lost where nobody reads."""

    def __init__(self, say: Callable[[dict[str, Any]], None]) -> None:
        self._say = say
        self._bench: Bench | None = None
        self._masters = Masters()
        self._looker: Looker | None = None
        self._path: Path | None = None
        self._mark: ServingMark | None = None
        self._remembered: Any = None
        self._running: asyncio.Task[None] | None = None
        self._rehearsing: asyncio.Task[None] | None = None
        self._of_line: dict[str, asyncio.Lock] = {}
        self._beside: set[asyncio.Task[None]] = set()

    async def run(self, commands: "asyncio.Queue[Command | None]") -> None:
        """Until there are no more commands."""
        telling = owned_task("bench: tells how it stands", self._tell())
        owned = Owned("bench: commands")
        try:
            while (command := await commands.get()) is not None:
                with owned:
                    if command.get("do") in _BESIDE:
                        self._begin(command)
                    else:
                        await self._take(command)
        finally:
            owned.finish()
            telling.cancel()
            await self._close()

    def _begin(self, command: Command) -> None:
        """What takes its time does not hold up the others; of one line one after the other."""
        lock = self._of_line.setdefault(str(command.get("line")), asyncio.Lock())

        async def work() -> None:
            async with lock:
                await self._take(command)

        task = owned_task("bench: a line", work())
        self._beside.add(task)
        task.add_done_callback(self._beside.discard)

    async def _close(self) -> None:
        for task in (self._running, self._rehearsing, *self._beside):
            if task is not None:
                task.cancel()
        if self._bench is not None:
            await self._bench.stop()
        self._bench = None
        if self._mark is not None:
            await asyncio.to_thread(self._mark.leave)
        self._mark = None

    async def _take(self, command: Command) -> None:
        number = command.get("id")
        try:
            done = self._handler(str(command.get("do")))(command)
            result = await done if isinstance(done, Awaitable) else done
        except FaultyFile as error:
            more = f", and {len(error.faults) - 1} more" if len(error.faults) > 1 else ""
            self._say({"id": number, "error": f"{error.faults[0]}{more}"})
        except PlaceTaken as error:
            self._say({"id": number, "error": str(error), "is_taken": True})
        except (_Refused, CannotServe, Unreachable, SurveyStopped, ValueError, OSError) as error:
            self._say({"id": number, "error": str(error)})
        except KeyError as error:
            self._say({"id": number, "error": f"{error} is missing"})
        else:
            self._say({"id": number, "done": result})

    def _handler(self, name: str) -> Callable[[Command], Any]:
        found = getattr(self, f"_do_{name}", None)
        if found is None:
            raise _Refused(f"{name!r} is no command")
        return found  # type: ignore[no-any-return]

    @property
    def _open(self) -> Bench:
        if self._bench is None:
            raise _Refused("no site is open")
        return self._bench

    # Commands

    async def _do_open(self, command: Command) -> str:
        await self._close()
        self._path = Path(command["site"])
        site, _ = await asyncio.to_thread(load_site, self._path)
        self._masters = Masters()
        bench = await asyncio.to_thread(
            lambda: Bench(site, seed=command.get("seed"), masters=self._masters, tell=self._note,
                          on_client=self._note, stands=())
        )  # fmt: skip
        if command.get("state"):
            try:
                recall(bench, command["state"])
            except ValueError as error:
                self._note(f"its last state {error}: it begins again")
        await bench.start()  # nobody stands in yet
        self._mark = ServingMark(self._path)
        self._bench, self._looker = bench, Looker(bench, self._masters)
        self._running = owned_task("bench: its step", bench.run())
        return f"{site.name} is open"

    async def _do_serve(self, command: Command) -> str:
        bench, name = self._open, str(command["line"])
        link = parse_link(command["link"])
        devices = tuple(command.get("devices", ()))
        units = bench.server.units_of(name)
        for device in devices:
            if device not in [one.name for one in units.line.devices]:
                raise _Refused(f"{device} is no device of {name} any more")
        line = replace(units.line, link=link)
        before = bench.server.stand_of(name)
        if before is None and needs_hearing(line):
            devices_here = [one for one in line.devices if not devices or one.name in devices]
            found = await look_at(
                replace(line, devices=tuple(devices_here)),
                max(float(command.get("hear_s", LEAST_HEAR_S)), LEAST_HEAR_S),
            )
            if found.why_not:
                raise _Refused(found.why_not)
            if found.unsure and not found.was_heard and not command.get("is_sure"):
                raise _Refused(f"nobody was heard there, and {', '.join(found.unsure[:6])} cannot be asked")
        await bench.server.serve(StandIn(name, link, devices))
        for wanted in map(_fault, command.get("faults", ())):  # before the first request is read
            if bench.is_of_line(wanted, name) and not any(fault == wanted for fault, _ in bench.faults):
                with suppress(ValueError):  # of a device that does not stand in any more
                    bench.begin_fault(wanted)
        self._say_where(bench)
        return str(bench.server.link_of(StandIn(name, link, devices)))

    async def _do_end(self, command: Command) -> str:
        bench, name = self._open, str(command["line"])
        for wanted, _ in list(bench.faults):
            if wanted.name in OF_LINE and bench.is_of_line(wanted, name):
                bench.forget_fault(wanted)
        await bench.server.end(name)
        self._say_where(bench)
        return f"nobody stands in on {name} any more"

    def _say_where(self, bench: Bench) -> None:
        """A disk that is slow holds up no answer."""
        mark, server = self._mark, bench.server
        if mark is not None:
            serves = [Serves(one.line, server.link_of(one), Origin.STAND_IN) for one in server.stands]
            task = owned_task("bench: says where", asyncio.to_thread(mark.say, serves))
            self._beside.add(task)
            task.add_done_callback(self._beside.discard)

    async def _do_edit(self, command: Command) -> str:
        bench = self._open
        assert self._path is not None
        path = Path(command.get("site", self._path))
        site, _ = await asyncio.to_thread(load_site, path)
        self._path = path
        for text in await bench.take_over(site):
            self._note(text)
        return "taken over"

    def _do_put(self, command: Command) -> str:
        return self._open.hands.put(command["device"], command["point"], command["text"])

    def _do_freeze(self, command: Command) -> str:
        return self._open.hands.freeze(command["device"], command["point"])

    def _do_give_back(self, command: Command) -> str:
        return self._open.hands.give_back(command["device"], command["point"])

    def _do_undo(self, command: Command) -> str:
        return self._open.hands.undo()

    def _do_fault(self, command: Command) -> str:
        wanted = _fault(command)
        if not any(fault == wanted for fault, _ in self._open.faults):
            self._open.begin_fault(wanted)
        return f"{wanted.target}: {wanted}"

    async def _do_mend(self, command: Command) -> str:
        bench = self._open
        faults = [one for one, _ in bench.faults if (one.target, one.name) == (command["target"], command["name"])]
        for wanted in faults:
            await bench.end_fault(wanted)
        return f"{command['target']}: {command['name']} is over"

    async def _do_rehearse(self, command: Command) -> str:
        bench = self._open
        assert self._looker is not None
        if self._rehearsing is not None and not self._rehearsing.done():
            raise _Refused("a rehearsal runs already: end it first")
        rehearsal = await asyncio.to_thread(read_rehearsal, Path(command["file"]), bench.site)
        for step in rehearsal.steps:
            bench.require(step.fault)
        self._looker.rehearsal, self._looker.verdicts = RehearsalRun(rehearsal, bench), None
        self._rehearsing = owned_task("bench: rehearsal", self._rehearse(self._looker))
        return f"{rehearsal.name} begins"

    async def _rehearse(self, looker: Looker) -> None:
        run = looker.rehearsal
        assert run is not None
        try:
            looker.verdicts = await run.run()
        except CannotServe as error:
            self._note(f"{run.rehearsal.name} ended early: {error}")
            looker.verdicts = run.verdicts_now()

    async def _do_stop_rehearsal(self, command: Command) -> str:
        if self._rehearsing is None or self._rehearsing.done() or self._looker is None:
            raise _Refused("no rehearsal runs")
        self._rehearsing.cancel()
        await asyncio.wait([self._rehearsing])
        run = self._looker.rehearsal
        assert run is not None
        await run.mend()
        self._looker.verdicts = run.verdicts_now()
        return f"{run.rehearsal.name} was ended: its faults are over"

    def _do_look(self, command: Command) -> str:
        if self._looker is not None:
            self._looker.device = str(command["device"])
            self._say({"state": self._looker.state()})
        return ""

    async def _do_export(self, command: Command) -> str:
        path, rows = Path(command["file"]), self._masters.all_rows()
        text = as_csv(rows)
        await asyncio.to_thread(write_whole, path, text)
        return f"{len(rows)} rows of what masters did are in {path}"

    # What is said

    def _note(self, text: str) -> None:
        self._say({"told": text})

    async def _tell(self) -> None:
        owned, count = Owned("bench: telling"), 0
        each = round(MEMORY_S / STATE_S)
        try:
            while True:
                await asyncio.sleep(STATE_S)
                count += 1
                with owned:
                    if self._bench is None or self._looker is None:
                        continue
                    self._say({"state": self._looker.state()})
                    if count % each == 0:
                        self._remember(self._bench)
        finally:
            owned.finish()

    def _remember(self, bench: Bench) -> None:
        state = state_of(bench)
        if state["devices"] != self._remembered:
            self._remembered = state["devices"]
            self._say({"memory": state})


def _fault(command: Command) -> FaultWanted:
    return wanted_fault(str(command["name"]), dict(command.get("keys", {})), str(command["target"]))


class _Output:
    """Standard output, written by a thread: a parent that does not read holds up no answer."""

    def __init__(self) -> None:
        self._waiting: Queue[bytes] = Queue(_MOST_WAITING)
        threading.Thread(target=self._work, name="says", daemon=True).start()

    def say(self, message: dict[str, Any]) -> None:
        data = msgspec.json.encode(message)
        try:
            self._waiting.put_nowait(data)
        except Full:
            if "id" in message:  # somebody waits for it
                with suppress(Exception):
                    self._waiting.get_nowait()
                    self._waiting.put_nowait(data)

    def _work(self) -> None:
        out = sys.stdout.buffer
        while True:
            data = self._waiting.get()
            try:
                out.write(data + b"\n")
                if self._waiting.empty():
                    out.flush()
            except OSError:  # nobody is there any more; standard input ends, too
                return


async def _play() -> None:
    loop = asyncio.get_running_loop()
    sys.setswitchinterval(0.0005)  # the lines' threads keep time; what moves can wait
    on_signals(loop, ("SIGINT", "SIGHUP"), lambda: None)  # the terminal sends it to both; the parent decides
    raise_limit()
    output = _Output()
    commands: asyncio.Queue[Command | None] = asyncio.Queue()
    on_signals(loop, ("SIGTERM",), lambda: commands.put_nowait(None))

    def note(failure: Failure) -> None:
        output.say({"told": failure.text})

    def hear() -> None:
        for line in sys.stdin.buffer:
            with suppress(msgspec.DecodeError):
                command = msgspec.json.decode(line)
                if isinstance(command, dict):
                    loop.call_soon_threadsafe(commands.put_nowait, command)
        with suppress(RuntimeError):  # the loop is over already
            loop.call_soon_threadsafe(commands.put_nowait, None)

    follow(note)
    threading.Thread(target=hear, name="hears", daemon=True).start()
    output.say({"ready": True})
    await BenchProcess(output.say).run(commands)


if __name__ == "__main__":
    asyncio.run(_play())
    sys.stdout.flush()
    os._exit(0)  # the thread that reads standard input holds its lock
