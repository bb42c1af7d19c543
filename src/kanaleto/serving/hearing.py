"""What a slave hears on one line or stream: bytes in, frames out, each with whether it came as the standard wants.

A frame is taken as soon as it is whole, as many devices do, and then its pauses and its neighbours do not matter. Where
whoever answers is strict (serial line 1.02, 2.5.1), what comes up to a silence of 3.5 characters is one frame or none:
a pause of more than 1.5 characters in it, bytes right behind it and noise right before it spoil it. The character that
ends a request in ASCII is the line's, so it is asked for again whenever something comes.
"""

from typing import NamedTuple

from kanaleto.lines.traffic import LONGEST_PAUSE_S
from kanaleto.serving.answerer import Answerer
from kanaleto.wire.frames import Event, Frame, Framing, Role
from kanaleto.wire.rtu import SHORTEST

_MOST_HELD = 1024
_MOST_PAUSE_CHARACTERS = 1.5
_MOST_PAUSE_S = 0.00075  # above 19 200 baud (serial line 1.02, 2.5.1.1)
_FAST_CHARACTER_S = 11 / 19200


class Heard(NamedTuple):
    """A frame or bytes that are none; `is_clean` tells whether a strict device takes it."""

    event: Event
    is_clean: bool = True


class Hearing:
    """Of `answerer`'s line. `quiet_s` is the silence after which bytes that make no frame are settled; `slack_s` is how
    late whoever brings the bytes may be, `character_s` 0 where bytes take no time and nobody can be strict; `gap_s` is
    the silence that ends a frame for a strict device, where it can be known from less."""

    def __init__(
        self, answerer: Answerer, framing: Framing, quiet_s: float, character_s: float = 0.0, slack_s: float = 0.0,
        gap_s: float = 0.0,
    ) -> None:  # fmt: skip
        self._answerer = answerer
        self._decoder = framing.decoder(Role.REQUESTS)
        self._quiet_s = quiet_s
        self._is_ascii = framing.name == "ascii"
        self._on_wire = character_s > 0
        self._may_be_strict = framing.name == "rtu" and character_s > 0
        self._longest_pause_s = LONGEST_PAUSE_S[framing.name]
        pause_s = _MOST_PAUSE_S if character_s < _FAST_CHARACTER_S else _MOST_PAUSE_CHARACTERS * character_s
        self._most_pause_s = pause_s + slack_s
        self._strict_quiet_s = gap_s or quiet_s
        self._burst = b""
        self._has_paused = False

    @property
    def is_strict(self) -> bool:
        return self._may_be_strict and self._answerer.is_strict

    @property
    def patience_s(self) -> float | None:
        """How long the line must be silent before `settle`; None when nothing waits for that."""
        if self._burst:
            return self._strict_quiet_s
        if not self._decoder.held:
            return None
        return self._longest_pause_s if self._is_ascii or self._decoder.lacks_bytes else self._quiet_s

    def take(self, data: bytes, silence_s: float = 0.0) -> list[Heard]:
        """Bytes that came after so long a silence."""
        if not self.is_strict:
            return [Heard(event) for event in self._asked(data)]
        self._has_paused = self._has_paused or (bool(self._burst) and silence_s > self._most_pause_s)
        self._burst += data
        return self._settled(is_clean=False) if len(self._burst) > _MOST_HELD else []

    def settle(self) -> list[Heard]:
        """The line has been silent for `patience_s`."""
        if self._burst:
            return self._settled(is_clean=not self._has_paused)
        return [Heard(event) for event in self._decoder.silence()]

    def again(self) -> list[Heard]:
        """After an answer: what another end of frames makes of the bytes that are held."""
        return [Heard(event) for event in self._decoder.end_with(self._answerer.delimiter)]

    def drop_rest(self) -> None:
        """A request was answered: no master has begun another meanwhile, so fewer bytes than a frame are noise. Where
        bytes take no time they may be the next request's."""
        if self._on_wire and self._decoder.held < SHORTEST:
            self._decoder.reset()

    def forget(self) -> None:
        """What is held is noise."""
        self._decoder.reset()
        self._burst, self._has_paused = b"", False

    def _asked(self, data: bytes) -> list[Event]:
        events = self._decoder.end_with(self._answerer.delimiter)
        return events + self._decoder.feed(data)

    def _settled(self, is_clean: bool) -> list[Heard]:
        burst, self._burst, self._has_paused = self._burst, b"", False
        events = self._asked(burst) + self._decoder.silence()
        is_one = len(events) == 1 and isinstance(events[0], Frame)
        return [Heard(event, is_clean and is_one) for event in events]
