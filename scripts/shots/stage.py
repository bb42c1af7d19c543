"""The application on the demo, in memory: a picture's keys are pressed, its seconds pass, and what then stands on the
screen is given as text for a terminal."""

import asyncio
import sys
import threading
from collections.abc import AsyncIterator, Callable, Coroutine, Sequence
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import msgspec
from textual.events import Key
from textual.keys import _character_to_key

from kanaleto.bench.bench import Bench
from kanaleto.bench.process import BenchProcess, Command
from kanaleto.bench.standins import StandIns
from kanaleto.bench.statements import STEP_S
from kanaleto.demo.slaves import PowerCycles
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from scripts.shots.clock import ScreenLoop, really_sleep
from scripts.shots.wires import WiredLoop, use_memory

SIZE = (160, 47)
_STEP_S, _PRESS_S = 0.1, 0.7
_SAMPLE_S, _ALIKE, _MOST_SAMPLES = 0.003, 3, 100
_AFTER_KEY_S, _REST_S, _KEPT_S = 0.2, 0.06, 1.5
_NAME = "kanaleto-demo-pictures"


class StagedEngine(Engine):
    """On the staged loop, with all that is asked in it: the demo's devices, the bench and whoever masters a bridge."""

    loop: WiredLoop
    beside: Sequence[Callable[[], Coroutine[Any, Any, None]]] = ()

    def _work(self) -> None:
        self.loop = WiredLoop()
        with asyncio.Runner(loop_factory=lambda: self.loop) as runner:
            runner.run(self._all())
        self._has_ended.set()
        self._is_up.set()

    async def _all(self) -> None:
        site = self.session.site
        bench = Bench(site)
        await bench.start()
        power = PowerCycles(bench.settings.waiting, bench.settings.after_power)
        tasks = [asyncio.create_task(bench.run(lambda: power.step(STEP_S)))]
        tasks += [asyncio.create_task(work()) for work in self.beside]
        try:
            await self._main()
        finally:
            for task in tasks:
                task.cancel()


class StagedStandIns(StandIns):
    """Its process is a task of the engine's loop."""

    engine: StagedEngine
    _commands: "asyncio.Queue[Command | None] | None" = None

    def _begin_process(self) -> None:
        if self._commands is None:
            self._commands = asyncio.Queue()
            process = BenchProcess(lambda message: self._take(msgspec.json.decode(msgspec.json.encode(message))))
            self.engine.run(process.run(self._commands))
            self._write("open", None, {"site": str(self._path), "state": self._memory})
            if self._looked_at:
                self._write("look", None, {"device": self._looked_at})

    def _require_process(self) -> None:
        return

    def _write(self, do: str, done: Any, keys: dict[str, Any]) -> None:
        self._count += 1
        if done is not None:
            self._waiting[self._count] = done
        commands = self._commands
        assert commands is not None
        self.engine.loop.call_soon_threadsafe(commands.put_nowait, {"id": self._count, "do": do, **keys})

    def _end_process(self) -> None:
        if self._commands is not None:
            self.engine.loop.call_soon_threadsafe(self._commands.put_nowait, None)
            self._commands = None


class Stage:
    """What a picture is made with."""

    def __init__(self, engine: StagedEngine, app: KanaletoApp) -> None:
        self._engine, self._app = engine, app
        loop = asyncio.get_running_loop()
        assert isinstance(loop, ScreenLoop)
        self._loop = loop

    async def wait(self, seconds: float, really_s: float = 0.0) -> None:
        """Let so much time pass, a tenth of a second at a time, each of which really takes so long at least."""
        for _ in range(round(seconds / _STEP_S)):
            self._engine.loop.go_on(_STEP_S)
            await self._settled(really_s)

    async def rest(self, seconds: float) -> None:
        """The same, with time for whatever reckons beside the screen."""
        await self.wait(seconds, _REST_S)

    async def kept(self) -> None:
        """All that has happened is on tape."""
        await self._settled(_KEPT_S)

    async def press(self, *keys: str) -> None:
        """One key after the other, as somebody presses them who looks at what comes of each."""
        for key in keys:
            await self._send(key)
            await self._settled(_AFTER_KEY_S)
            await self.rest(_PRESS_S)

    async def write(self, text: str) -> None:
        """Type it."""
        for character in text:
            await self._send(character)
            await self.wait(_STEP_S)
        await self.wait(_PRESS_S)

    async def _send(self, key: str) -> None:
        name = _character_to_key(key) if len(key) == 1 else key
        event = Key(name, key if len(key) == 1 else None)
        event.set_sender(self._app)
        assert self._app._driver is not None
        self._app._driver.send_message(event)
        await self._loop.everything_done()

    async def _settled(self, at_least_s: float = 0.0) -> None:
        """What reckons beside the screen is done in no time of the clock."""
        await self._loop.everything_done()
        really_sleep(at_least_s)
        seen: list[object] = []
        while len(seen) < _MOST_SAMPLES and (len(seen) < _ALIKE or any(one != seen[-1] for one in seen[-_ALIKE:])):
            seen.append(self._where_threads_are())
            really_sleep(_SAMPLE_S)
        await self._loop.everything_done()

    def _where_threads_are(self) -> object:
        ours = (threading.get_ident(), self._engine._thread.ident)
        return {
            number: (id(frame), frame.f_lasti) for number, frame in sys._current_frames().items() if number not in ours
        }

    def painted(self) -> str:
        """All rows, with their colours."""
        app = self._app
        strips = app.screen._compositor.render_strips()
        return "\r\n".join(strip.render(app.console) for strip in strips[: SIZE[1]])


@asynccontextmanager
async def staged(
    folder: Path, theme: str, beside: Sequence[Callable[[], Coroutine[Any, Any, None]]]
) -> AsyncIterator[Stage]:
    """The application as `kanaleto demo` starts it, its site in that folder, which some pictures show."""
    from kanaleto.bench import standins

    use_memory()
    sys.setswitchinterval(0.0005)
    loaded = load_whole(copy_site(folder / _NAME, 15020))
    engine = StagedEngine(loaded.site)
    engine.beside, StagedStandIns.engine = beside, engine
    standins.StandIns = StagedStandIns  # type: ignore[misc]
    engine.start()
    app = KanaletoApp(engine, loaded, theme, None, False)
    try:
        async with app.run_test(size=SIZE):
            yield Stage(engine, app)
    finally:
        app.exit()
