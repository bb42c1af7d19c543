"""The line that a value is typed into, to be written: what would go out, what stands there now, and what came of it.

Nothing goes out before enter, and enter counts only once what it confirms has been painted. What the door wants a word
for is asked in the same place. After a write the line stays, with the way back in it.
"""

from collections.abc import Callable, Sequence
from concurrent.futures import Future
from functools import partial

from msgspec.structs import replace
from textual import events

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.alive import KeptAlive, Wish
from kanaleto.control.order import Consent, Order, Result, State
from kanaleto.control.preview import Preview, Spot, back_of, offered, preview
from kanaleto.control.waits import Wait
from kanaleto.control.wanted import is_switch, is_word_of_bits
from kanaleto.polling.engine import EngineEnded
from kanaleto.tui.shared.question import Choice, WriteQuestion
from kanaleto.tui.write.shown import Phase, ShownLine

_YES = "yes"


class WriteLine(ShownLine):
    """Hidden until `begin`. It owns the keys while it is open."""

    def begin(self, spots: Sequence[Spot], bit: int | None = None, text: str | None = None) -> None:
        """Open it for one place or several; `bit` for one bit of a word of bits."""
        if self.screen.focused is not self:
            self._before = self.screen.focused
        self._spots, self._bit = list(spots), bit
        self.phase, self.message, self.tone = Phase.TYPING, "", "muted"
        self._has_back = False
        self._read.clear()
        self._asked = self._question = None
        self._sends += 1
        self._put(offered(self._spots[0], self.context.snapshot, bit) if text is None else text, text is None)
        self.display = True
        self.screen.set_focus(self)
        self.redraw()

    def ask(self, question: WriteQuestion) -> None:
        """Ask something whose answer writes, with the same care."""
        if self.screen.focused is not self:
            self._before = self.screen.focused
        self._spots, self._preview = [], Preview(fault="")
        self.phase, self.message, self._question = Phase.ASKED, "", question
        self._sends += 1
        self.display = True
        self.screen.set_focus(self)
        self.redraw()

    def close(self) -> None:
        self.display = False
        self._question = None
        self._sends += 1
        before, self._before = self._before, None
        if self.screen.focused not in (None, self):
            return
        if before is not None and before.is_attached and before.display:
            self.screen.set_focus(before)
        else:
            self.context.refocus()
        self.context.redraw()

    def show(self, snapshot: Snapshot) -> None:
        """Another moment: what stands there may have changed. A line that has lost the keys is closed."""
        if self.is_open and not self.has_keys:
            self.close()
        elif self.is_open:
            if self.phase is Phase.TYPING and self._preview.fault and self._spots:
                self._look()  # what kept it back may be over
            self.redraw()

    # Typing

    def _put(self, text: str, is_offered: bool = True) -> None:
        self._typed.put(text, is_offered)
        self._look()

    def _look(self) -> None:
        """What would go out for what stands here."""
        self._preview = preview(self._spots, self._typed.text, self.context.snapshot, self._bit, self._read)
        wish = self._preview.wish
        if wish is None:
            self._waits = ""
        elif (wish.period_s, wish.order.line) != self._judged:
            self._judged = (wish.period_s, wish.order.line)
            later, control = self.context.later, self.context.control
            done = self.context.engine.do(lambda session: control.judge(wish))
            done.add_done_callback(lambda came: later(lambda: self._take_judged(wish, came)))

    def _take_judged(self, wish: Wish, came: "Future[tuple[Wait, str]]") -> None:
        """How long it may have to wait, said before it begins."""
        if came.cancelled() or self._judged != (wish.period_s, wish.order.line):
            return
        error = came.exception()
        if error is not None:
            self._waits = str(error)
        else:
            wait, why = came.result()
            text = f"the longest wait on {wish.order.line} is {1000 * wait.longest_s:.0f} ms ({wait.why})"
            text += f", {1000 * wait.if_silent_s:.0f} ms once a device falls silent" if wait.if_silent_s else ""
            self._waits = (
                f"{text}{'; ' + why if why else ''}. After a kill or a loss of power only its own watchdog helps"
            )
        self.redraw()

    def _changed(self) -> None:
        """Something else stands in the line: what was asked or said before is not about that."""
        self._has_back = False
        if self.phase in (Phase.DONE, Phase.ASKED):
            self.phase, self._asked, self._question = Phase.TYPING, None, None
        self.message = ""
        self._look()

    async def take_key(self, event: events.Key) -> bool:
        key, character = event.key, event.character or ""
        if key in ("ctrl+q", "ctrl+c"):
            return False
        if key == "escape":
            self._leave()
        elif self.phase is Phase.SENDING:
            return True
        elif key == "enter":
            self._enter(event.time)
        elif self.phase is Phase.ASKED:
            self._answer(character, event.time)
        elif event.is_printable and character:
            self._typed.insert(character)
            self._changed()
        elif key in ("up", "down"):
            self._turn(1 if key == "up" else -1)
        elif key == "ctrl+k":
            self._typed.put(self._typed.text + ("" if " every " in self._typed.text else " every 0.5 s then 0"))
            self._changed()
        elif self._typed.edit(key):
            self._changed()
        self.redraw()
        return True

    def _turn(self, step: int) -> None:
        """On and off, or the states that there are."""
        point = self._spots[0].point
        states = list(point.labels.values()) if point.is_state and not is_word_of_bits(point) else []
        if self._bit is not None or (is_switch(point) and len(states) != 2):
            states = ["on", "off"]
        if not states:
            return
        folded, text = [state.casefold() for state in states], self._typed.text.casefold()
        at = folded.index(text) if text in folded else -1 if step > 0 else 0
        self._typed.put(states[(at + step) % len(states)])
        self._changed()

    def take_paste(self, text: str) -> bool:
        """Several lines become several values; nothing that is pasted confirms anything."""
        if self.phase is not Phase.SENDING:
            rows = "; ".join(part.strip() for part in text.replace("\t", "\n").splitlines() if part.strip())
            self._typed.insert(rows)
            self._changed()
            self.redraw()
        return True

    def _leave(self) -> None:
        """Out of a question, back to what was typed; else away."""
        if self.phase is Phase.ASKED and self._spots:
            self.phase, self.message, self._asked, self._question = Phase.TYPING, "nothing was sent", None, None
        else:
            self.close()

    # Sending

    def _enter(self, came_s: float) -> None:
        if self.phase is Phase.ASKED and self._question is not None:
            self._answer("y", came_s)
            return
        if self.phase is Phase.ASKED and self._asked is not None and self._asked[0] is Consent.DEVICE:
            self._spell("enter", came_s)
            return
        if self.phase is not Phase.ASKED and self._preview.fault:
            self._say(self._preview.fault, "ochre")
            return
        self._press(came_s, self._confirmed)

    def _answer(self, character: str, came_s: float) -> None:
        if self._asked is not None and self._asked[0] is Consent.DEVICE:
            self._spell(character, came_s)
            return
        choice = self._question.choice(character) if self._question is not None else None
        if choice is not None and choice.ends:
            self._chosen(choice)
        elif choice is not None:
            self._press(came_s, partial(self._chosen, choice))
        elif self._question is None and character == "y":
            self._press(came_s, self._confirmed)

    def _press(self, came_s: float, confirm: Callable[[], None]) -> None:
        """A press that would send: refused in words where it does not count."""
        why = self._confirming.pressed(came_s, confirm)
        if why and self.phase is Phase.ASKED:  # what is asked stays to be read
            self.context.tell(why)
        elif why:
            self._say(why, "ochre")

    def _spell(self, character: str, came_s: float) -> None:
        """What is so far from usual is agreed to in words."""
        if character == "enter" and self._spelled == _YES:
            self._press(came_s, self._confirmed)
        elif len(character) == 1:
            self._spelled = (self._spelled + character.lower())[-len(_YES) :]

    def _chosen(self, choice: Choice) -> None:
        self._question = None
        sends = self._sends
        choice.do()
        if sends == self._sends:
            self.close()

    def _confirmed(self) -> None:
        if self.phase is Phase.ASKED and self._asked is not None:
            consent, orders = self._asked
            first = orders[0].with_consent(consent)
            if consent is Consent.CHANGED:
                first = replace(first, seen=None)
            self._send([first, *orders[1:]])
        elif self._preview.wish is not None:
            self._keep_alive(self._preview.wish)
        elif self._preview.orders and any(spot.point.setting is not None for spot in self._spots):
            self._change_setting()
        elif self._preview.orders:
            self._send(list(self._preview.orders))
        self.redraw()

    def _send(self, orders: list[Order]) -> None:
        self.phase, self._asked = Phase.SENDING, None
        self._say("sending …", "sky")
        self._sends += 1
        sends, control, pulse_s = self._sends, self.context.control, self._preview.pulse_s
        later = self.context.later
        back = back_of(self._preview, self.context.snapshot)

        def on_later(text: str) -> None:
            later(lambda: self._say_later(sends, text))

        if pulse_s and len(orders) == 1:
            way_back = preview(self._spots, back, self.context.snapshot, self._bit).orders[0]
            half = partial(self._half, sends)
            work = control.pulse(orders[0], way_back, pulse_s, lambda result: later(partial(half, result)))
            done: Future[list[Result]] = self.context.engine.run(_listed(work))
        elif len(orders) == 1:
            done = self.context.engine.run(_listed(control.send(orders[0], on_later)))
        else:
            done = self.context.engine.run(control.send_all(orders, lambda result: None))
        left = "" if pulse_s else back  # a pulse goes back by itself
        done.add_done_callback(lambda came: later(lambda: self._settle(sends, orders, left, came)))

    def _change_setting(self) -> None:
        """A setting of a device's own port has steps of its own."""
        from kanaleto.tui.write.settings import SettingSteps  # seldom wanted

        if len(self._spots) > 1:
            self._say("a setting of a port is changed on its own", "ochre")
            return
        order = self._preview.orders[0]
        self.close()
        SettingSteps(self.context, self.ask).begin(order)

    def _half(self, sends: int, result: Result) -> None:
        if sends != self._sends or result.state not in (State.DONE, State.UNKNOWN):
            return
        how = "the way back comes by itself" if result.is_done else "its way back is owed all the same"
        self._say(f"on its way: {result.text}; {how}", "sky" if result.is_done else "ochre")
        self.redraw()

    def _settle(self, sends: int, orders: list[Order], back: str, came: "Future[list[Result]]") -> None:
        """What came of it."""
        if sends != self._sends:
            self._tell_elsewhere(came)
            return
        try:
            results = came.result()
        except (EngineEnded, Exception) as error:
            self.phase = Phase.TYPING
            self._say(f"not sent: {error}", "terracotta")
            self.redraw()
            if not isinstance(error, EngineEnded):
                raise
            return
        last = results[-1]
        rest = orders[len(results) :]
        if last.needs is not None:
            self.phase, self._asked = Phase.ASKED, (last.needs, [last.order, *rest])
            done = f"{len(results) - 1} of {len(orders)} are written. " if len(results) > 1 else ""
            self._spelled = ""
            how = "type yes, then enter" if last.needs is Consent.DEVICE else "y or enter"
            self._say(f"{done}{last.text} — {how} sends it, escape does not", "ochre")
        else:
            self._finish(results, rest, back)
        self.redraw()

    def _finish(self, results: list[Result], rest: list[Order], back: str) -> None:
        last = results[-1]
        well = [result for result in results if result.is_well]
        # what was read back is what was seen last, whatever the next poll may still have to bring
        now_s = self.context.engine.now_s()
        for result in results:
            if result.after is None:
                continue
            self._spots = [spot.as_read(result.order, result.after, now_s) for spot in self._spots]
            for line in self._preview.lines:
                spot = line.spot.as_read(result.order, result.after, now_s)
                if spot.words is not None and spot is not line.spot:
                    self._read[spot.who, spot.point.name] = (spot.words, now_s)
        took = f", {1000 * last.took_s:.0f} ms" if last.is_done else ""
        if len(results) + len(rest) > 1:
            text = f"{len(well)} of {len(results) + len(rest)} written"
            if not last.is_well:
                text += f"; {last.order.name}: {_state_words(last)}"
                text += f"; not sent: {', '.join(order.name for order in rest)}" if rest else ""
        else:
            text = f"{_state_words(last)}{took}"
        self.phase = Phase.DONE if last.state is not State.NOT_SENT else Phase.TYPING
        if last.is_well and back:
            text += f" · the way back stands above: {back}"
            self._put(back)
            self._has_back = True
        else:
            self._look()
        self._say(text, "verdigris" if last.is_well else "terracotta")

    def _say_later(self, sends: int, text: str) -> None:
        tone = "verdigris" if text.endswith("it stayed") else "terracotta"
        if self.is_open and sends == self._sends:
            back = f" · the way back stands above: {self._typed.text}" if self._has_back else ""
            self._say(text + (back if tone == "verdigris" else ""), tone)
            self.redraw()
        else:
            self.context.tell(text)

    def _tell_elsewhere(self, came: "Future[list[Result]]") -> None:
        """The line was closed meanwhile: what came of it is reported all the same."""
        if came.cancelled() or came.exception() is not None:
            return
        last = came.result()[-1]
        self.context.tell(f"{last.order.device} {last.order.name}: {_state_words(last)}")

    # Kept alive

    def _keep_alive(self, wish: Wish) -> None:
        self.phase, self._question = Phase.SENDING, None
        self._say("beginning …", "sky")
        self._sends += 1
        sends, later = self._sends, self.context.later
        done = self.context.engine.run(self.context.control.alives.begin(wish))
        done.add_done_callback(lambda came: later(lambda: self._settle_alive(sends, wish, came)))

    def _settle_alive(self, sends: int, wish: Wish, came: "Future[tuple[KeptAlive | None, Result]]") -> None:
        if came.cancelled() or came.exception() is not None:
            self.phase = Phase.TYPING
            self._say(f"not begun: {came.exception()}", "terracotta")
            return
        kept, result = came.result()
        if sends != self._sends:
            self.context.tell(f"{wish.order.name}: {'is kept alive' if kept is not None else result.text}")
            return
        if kept is not None:
            self.phase = Phase.DONE
            text = f"kept alive every {wish.period_s:g} s until it is stopped (H lists it, X there ends all); "
            self._say(f"{text}after a kill or a loss of power only the device's own watchdog helps", "verdigris")
        elif result.needs is not None:
            self.phase = Phase.ASKED
            agreed = replace(wish, order=wish.order.with_consent(result.needs))
            self._question = WriteQuestion("", "", (Choice("y", "begin", partial(self._keep_alive, agreed)),))
            self._say(f"{result.text} — y begins, escape does not", "ochre")
        elif "may have to wait" in result.text:
            self.phase = Phase.ASKED
            without = replace(wish, leaves_out_silent=True)
            self._question = WriteQuestion(
                "", "",
                (
                    Choice("s", "leave silent ones out", partial(self._keep_alive, without)),
                    Choice("p", "split reads too", partial(self._keep_alive, replace(without, splits_reads=True))),
                    Choice("y", "begin", partial(self._keep_alive, replace(wish, is_late_all_right=True))),
                ),
            )  # fmt: skip
            self._say(
                f"{result.text}: s leaves silent devices out meanwhile, p splits reads too, y begins as it is", "ochre"
            )
        else:
            self.phase = Phase.TYPING
            self._say(f"not begun: {result.text}", "terracotta")
        self.redraw()


async def _listed(work: object) -> list[Result]:
    return [await work]  # type: ignore[misc]


def _state_words(result: Result) -> str:
    text = result.text
    if result.state is State.NOT_SENT:
        return f"not sent: {text}"
    if result.state is State.DONE and text == "read back, equal":
        return "written, read back, equal"
    return f"written; {text}" if result.state is State.DONE else text
