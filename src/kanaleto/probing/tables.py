"""The search of one table of one unit, without a line: it says what to ask next, and receives what came.

A hit grows both ways, in steps that double; a refusal is halved until it is known exactly where the run ends, so that
every end was asked for by itself. Where the register behind an end reads alone, the end is none: the request was too
long (`most` is what the device allows), or crossed a border that no request may cross (`walls`). A device that gives
zeros for what it does not have is found out by two addresses at which nobody begins anything; of its table only what is
not zero counts, and whole blocks are asked for. From a run follows where to look next (`likely.beside_run`).
"""

from bisect import bisect_right, insort
from collections.abc import Generator, Iterable
from heapq import heappop, heappush
from math import exp

from kanaleto.probing import weights
from kanaleto.probing.known import REFUSED, UNKNOWN, ZERO, KnownAddresses, Reply, Span, Steps
from kanaleto.probing.likely import beside_run, likely_places
from kanaleto.probing.question import Never
from kanaleto.wire.codes import Table

_FIRST_STEP = 4
_ZEROS = 32  # so many zeros on end, and it is asked whether everything is zero
_ODD = (7919, 23561, 46337, 613, 61169)
_BETWEEN, _AROUND = 6, 3  # zeros between and around words that are not zero, in a table full of zeros
_NO_FUNCTION_AFTER = 2
_MOST_SUGGESTED = 3000
_CAREFUL = 8
_MOST_ON_END = 600


class TableSearch(KnownAddresses):
    """`runs` and `dangerous` are spans, in order; `most` is how many items one request may ask, as learned, `longest`
    how many one was seen to give. All may be read from any thread."""

    def __init__(
        self, table: Table, first: int = 0, last: int = 0xFFFF, never: Never = (), with_every: bool = False
    ) -> None:
        super().__init__(first, last)
        self.table = table
        self.most, self.longest = table.most_read, 0
        self.dangerous: list[Span] = []
        self.resets: list[Span] = []
        """Those of them that reading takes away: they count, and are zero right after."""
        self.words: dict[int, int] = {}  # as they were last seen by the search
        self.walls: list[int] = []
        self.is_full_of_zeros: bool | None = None
        self.why_none = ""
        self.is_hoped_for = False  # the unit must have something, and nothing of it was found
        self.eagerness = 1.0  # of looking where nothing speaks for it but that it is likely
        self._never = [(low, high) for of, low, high in never if of is table]
        self.with_every = with_every
        self._scores, self._places, self._before = likely_places(table.is_bits, with_every)
        self._at = 0
        self._suggested: list[tuple[float, int]] = []
        self._ends: dict[int, int] = {}  # where a neighbour's run ends, by where it begins
        self._missed_score = 0.0
        self._refusals_of_function = 0
        self._careful: list[Span] = []
        self._forgiven: set[Span] = set()
        self._reported: set[int] = set()  # beginnings of runs that others know already

    # What is known

    @property
    def is_over(self) -> bool:
        return self.score == 0.0

    @property
    def share(self) -> float:
        """How much of what is likely is behind it, 0…1."""
        return 1.0 if self.why_none else self._before[self._at]

    @property
    def left(self) -> int:
        """About how many requests are left."""
        return 0 if self.why_none else len(self._places) - self._at + len(self._suggested)

    @property
    def next_place(self) -> int:
        """The likeliest address that was not asked."""
        if self._suggested and -self._suggested[0][0] >= self._score_of_place():
            return self._suggested[0][1]
        return self._places[self._at] if self._at < len(self._places) else self.last

    def restore(self, runs: Iterable[Span], refused: Iterable[Span]) -> None:
        """Take over what an earlier search knew."""
        for low, high in refused:
            for address in range(max(low, self.first), min(high, self.last) + 1):
                self.note(address, 1, REFUSED)
        for low, high in runs:
            self.note_reads(max(low, self.first), min(high, self.last))
            for address in (low - 1, high + 1):
                self.suggest(address, weights.SEARCH.beside_known)

    # What to ask next

    @property
    def score(self) -> float:
        """How likely the next place reads; 0 where nothing is left to ask."""
        if self.why_none:
            return 0.0
        while self._at < len(self._places) and self.state_of(self._places[self._at]) != UNKNOWN:
            self._at += 1
        while self._suggested and self.state_of(self._suggested[0][1]) != UNKNOWN:
            heappop(self._suggested)
        best = max(self._score_of_place(), -self._suggested[0][0] if self._suggested else 0.0)
        return best * self._weight()

    def _score_of_place(self) -> float:
        return self._scores[self._at] * self.eagerness if self._at < len(self._places) else 0.0

    def _weight(self) -> float:
        known = weights.SEARCH
        weight = known.tables[self.table]
        if self._refusals_of_function and not self.runs:
            return weight * known.least
        if self.is_hoped_for:
            return weight * known.hope
        patience, least = (known.patience_with_runs, 2 * known.least) if self.runs else (known.patience, known.least)
        return weight * max(exp(-self._missed_score / patience), least)

    def suggest(self, address: int, score: float, end: int = -1) -> None:
        """That an address may read, since something else does; `end` is where its run may end."""
        if self.state_of(address) == UNKNOWN and len(self._suggested) < _MOST_SUGGESTED:
            heappush(self._suggested, (-score, address))
            if end > address:
                self._ends[address] = end

    def new_runs(self) -> list[Span]:
        """Runs that were not given before."""
        fresh = [run for run in self.runs if run[0] not in self._reported]
        self._reported.update(first for first, _ in fresh)
        return fresh

    def explore(self) -> Steps:
        """Ask for the likeliest place, and for all that belongs to it."""
        if not self.score:
            return
        is_static = not self._suggested or self._score_of_place() > -self._suggested[0][0]
        if is_static:
            address, score = self._places[self._at], self._scores[self._at]
        else:
            negative, address = heappop(self._suggested)
            score = -negative
        if not self._touchable(address, 1):
            self.note(address, 1, REFUSED)
            return
        if self.is_full_of_zeros:
            yield from self._ask_block(address)
            return
        end = self._ends.pop(address, -1)
        whole = self._touchable(address, end - address + 1) if end > address else 1
        reply = yield address, whole
        if not reply.is_good and whole > 1:
            reply = yield address, 1
            whole = 1
        if not reply.is_good:
            self._miss(address, score if is_static else 0.0, reply)
            return
        self._take(address, whole, reply)
        yield from self._grow_up(address, 1 if whole > 1 else _FIRST_STEP, reply)
        if self.is_full_of_zeros:
            return
        yield from self._grow_down(address)
        yield from self._learn_most(address)
        yield from self._read_again(address)
        self._look_beside(address)

    def _miss(self, address: int, score: float, reply: Reply) -> None:
        if reply.is_no_function:
            self._refusals_of_function += 1
            if self._refusals_of_function >= _NO_FUNCTION_AFTER and not self.runs:
                self.why_none = f"the unit has no function for {self.table.title}"
        self._missed_score += score
        self.note(address, 1, REFUSED)

    def _look_beside(self, address: int) -> None:
        run = self.run_of(address)
        if run is None:
            return
        for other, score in beside_run(*run):
            self.suggest(other, score * self.eagerness)
        for first, _ in self.runs[-12:]:
            if first != run[0]:
                self.suggest(run[0] + (run[0] - first), weights.SEARCH.mirrored)

    # Growing

    def _touchable(self, first: int, count: int) -> int:
        """How many from `first` on may be asked at once, up to `count`."""
        count = min(count, self.most, self.last - first + 1) if first >= self.first else 0
        for low, high in (*self._never, *self.dangerous):
            if low <= first <= high:
                return 0
            if first < low:
                count = min(count, low - first)
        for low, high in self._careful:
            if first < low < first + count:
                count = low - first
            elif low <= first <= high:
                count = min(count, _CAREFUL if high - first >= _CAREFUL else 1, high - first + 1)
        at = bisect_right(self.walls, first)
        if at < len(self.walls):
            count = min(count, self.walls[at] - first)
        return max(count, 0)

    def _grow_up(self, address: int, step: int, reply: Reply) -> Steps:
        run = self.run_of(address)
        at, zeros = (run[1] if run is not None else address) + 1, 0 if any(reply.values) else 1
        while self.state_of(at) == UNKNOWN:
            count = self._touchable(at, step)
            if not count:
                return
            reply = yield at, count
            if reply.is_good:
                self._take(at, count, reply)
                at += count
                step = min(2 * step, self.table.most_read)
                if at - address > _MOST_ON_END * (16 if self.table.is_bits else 1):
                    self.suggest(at, weights.SEARCH.go_on)  # others have their turn meanwhile
                    return
                zeros = 0 if any(reply.values) else zeros + count
                if zeros >= (_ZEROS if not self.table.is_bits else self.table.most_read):
                    yield from self._ask_whether_full_of_zeros()
                    if self.is_full_of_zeros:
                        return
                continue
            if count == 1:
                self.note(at, 1, REFUSED)
                return
            good = yield from self._longest(at, count)
            at += good
            if not good or not self._touchable(at, 1):
                return
            alone = yield at, 1
            if not alone.is_good:
                self.note(at, 1, REFUSED)
                return
            yield from self._tell_apart(at, good)
            self._take(at, 1, alone)
            at, step = at + 1, min(step, _FIRST_STEP)

    def _tell_apart(self, at: int, good: int) -> Steps:
        """`good` registers before `at` read at once, and not with it, though it reads alone: is that the longest
        request, or a border?"""
        if good + 1 <= self.longest:
            insort(self.walls, at)
            return
        pair = yield at - 1, 2
        if pair.is_good or good == 1:
            self.most = good
        else:
            insort(self.walls, at)

    def _learn_most(self, address: int) -> Steps:
        """How much of a run one request gives, where it is longer than any request so far."""
        run = self.run_of(address)
        while run is not None:
            count = self._touchable(run[0], min(run[1] - run[0] + 1, self.table.most_read))
            if count <= self.longest:
                return
            reply = yield run[0], count
            if reply.is_good:
                self._take(run[0], count, reply)
                return
            good, bad = max(self.longest, 1), count
            while bad - good > 1:
                middle = (good + bad) // 2
                reply = yield run[0], middle
                good, bad = (middle, bad) if reply.is_good else (good, middle)
            self.longest = max(self.longest, good)
            yield from self._tell_apart(run[0] + good, good)

    def _read_again(self, address: int) -> Steps:
        """At once: whether reading takes away what stands there."""
        run = self.run_of(address)
        if run is None or self.table.is_bits:
            return
        first = max(run[0], address - max(self.longest, 1) + 1)
        count = self._touchable(first, min(run[1] - first + 1, max(self.longest, 1)))
        if sum(bool(self.words.get(at)) for at in range(first, first + count)) > 1:
            yield first, count

    def _longest(self, first: int, bad: int) -> Generator[tuple[int, int], Reply, int]:
        """How many from `first` on read at once; `bad` do not. What follows the last is known not to, where that is the
        first."""
        good = 0
        while bad - good > 1:
            middle = (good + bad) // 2
            reply = yield first, middle
            if reply.is_good:
                self._take(first, middle, reply)
                good = middle
            else:
                bad = middle
        if not good:
            self.note(first, 1, REFUSED)
        return good

    def _grow_down(self, address: int) -> Steps:
        run = self.run_of(address)
        assert run is not None
        at, step = run[0] - 1, 1
        while at >= self.first and self.state_of(at) == UNKNOWN:
            low = max(at - min(step, self.most) + 1, self.first)
            while low < at and (self.state_of(low) != UNKNOWN or self._touchable(low, at - low + 1) < at - low + 1):
                low += 1
            if not self._touchable(low, 1):
                return
            reply = yield low, at - low + 1
            if reply.is_good:
                self._take(low, at - low + 1, reply)
                at, step = low - 1, min(2 * step, self.table.most_read)
            elif low == at:
                self.note(at, 1, REFUSED)
                return
            else:
                step = max((at - low + 1) // 2, 1)

    # Tables full of zeros

    def _ask_whether_full_of_zeros(self) -> Steps:
        if self.is_full_of_zeros is not None:
            return
        odd = [at for at in _ODD if self.first <= at <= self.last and self.state_of(at) == UNKNOWN][:2]
        odd = [at for at in odd if self._touchable(at, 1)]
        if not odd:
            return
        for address in odd:
            reply = yield address, 1
            if not reply.is_good or any(reply.values):
                self.is_full_of_zeros = False
                if reply.is_good:
                    self.suggest(address + 1, weights.SEARCH.beside_known)
                    self._take(address, 1, reply)
                else:
                    self.note(address, 1, REFUSED)
                return
        self.is_full_of_zeros = True
        known, self.runs = self.runs, []
        for first, last in known:  # asked for again as blocks, of which only what is not zero counts
            self.note(first, last - first + 1, UNKNOWN)
            self.suggest(first, weights.SEARCH.beside_known)

    def _ask_block(self, address: int) -> Steps:
        """As many from there as one request gives; what is not zero counts."""
        first = address
        while first > self.first and address - first < _AROUND and self.state_of(first - 1) == UNKNOWN:
            first -= 1
        count = self._touchable(first, self.table.most_read)
        while count > 1 and any(self.reads(at) for at in range(first, first + count)):
            count -= 1
        reply = yield first, max(count, 1)
        while not reply.is_good and count > 1:
            count //= 2
            reply = yield first, count
            if reply.is_good:
                self.most = min(self.most, count)
        if not reply.is_good:
            self.note(first, 1, REFUSED)
            return
        self.longest = max(self.longest, count)
        self.note(first, count, ZERO)
        self.words.update(zip(range(first, first + count), reply.values, strict=False))
        there = [first + number for number, value in enumerate(reply.values[:count]) if value]
        if there and there[-1] >= first + count - _BETWEEN:
            self.suggest(first + count, weights.SEARCH.behind_block)
        begin = 0
        for number, at in enumerate(there):
            if number + 1 == len(there) or there[number + 1] - at > _BETWEEN:
                low, high = there[begin] - _AROUND, at + _AROUND
                if self.table.is_bits:  # they come in eights
                    low, high = there[begin] & ~7, at | 7
                low, high = max(low, first), min(high, first + count - 1)
                self.note_reads(low, high)
                begin = number + 1

    # Taking down

    def _take(self, first: int, count: int, reply: Reply) -> None:
        self.longest = max(self.longest, count)
        self.note_reads(first, first + count - 1)
        self.words.update(zip(range(first, first + count), reply.values, strict=False))

    def take_care(self, first: int, last: int) -> None:
        """The unit restarted when asked for this span: go on there in smaller steps, until the address is found that
        does it."""
        if first == last:
            insort(self.dangerous, (first, last))
            self.note(first, 1, REFUSED)
            self.suggest(first + 1, weights.SEARCH.beside_known)
            return
        self._careful.append((first, last))
        self.suggest(first, weights.SEARCH.beside_known)

    def shun(self, first: int, last: int) -> None:
        """The unit fell silent when asked for this: what of it was never read is dangerous, and not asked again."""
        begin = -1
        for address in range(first, last + 2):
            is_new = address <= last and self.state_of(address) in (UNKNOWN, REFUSED)
            if is_new and begin < 0:
                begin = address
            elif not is_new and begin >= 0:
                insort(self.dangerous, (begin, address - 1))
                self.note(begin, address - begin, REFUSED)
                begin = -1
        self.suggest(last + 1, weights.SEARCH.beside_known)

    def forgive(self, first: int, last: int) -> None:
        """What is dangerous of this span has another turn, once: others fell silent with the unit, so it was the line,
        as far as is known."""
        for span in [span for span in self.restarting if first <= span[0] and span[1] <= last]:
            if span not in self._forgiven:
                self._forgiven.add(span)
                self.dangerous.remove(span)
                self.note(span[0], span[1] - span[0] + 1, UNKNOWN)
                self.suggest(span[0], weights.SEARCH.beside_known)

    def ask_again(self, address: int) -> None:
        """It was not answered, and has another turn."""
        if self.state_of(address) == REFUSED and self._touchable(address, 1):
            self.note(address, 1, UNKNOWN)
            self.suggest(address, weights.SEARCH.beside_known)

    def leave_alone(self, first: int, last: int) -> None:
        """Reading takes away what stands there: it is not read again."""
        self.resets.append((first, last))
        insort(self.dangerous, (first, last))
        self.note(first, last - first + 1, REFUSED)
        self.runs = [
            part for low, high in self.runs for part in ((low, min(high, first - 1)), (max(low, last + 1), high))
            if part[0] <= part[1]
        ]  # fmt: skip

    @property
    def restarting(self) -> list[Span]:
        """Those of the dangerous ones that restart the unit."""
        return [span for span in self.dangerous if span not in self.resets]

    # Reading all of it

    def spans(self) -> list[tuple[int, int]]:
        """The requests (first, count) that read everything that was found."""
        found = []
        for first, last in self.runs:
            at = first
            while at <= last:
                count = self._touchable(at, last - at + 1)
                if count:
                    found.append((at, count))
                at += max(count, 1)
        return found
