"""What is kept of what was read lately: a ring of times and bytes, read by others while it grows."""

import threading
import unittest

from kanaleto.board.trace import TRACE_EVERY_S, TRACE_LENGTH, Trace


class Traces(unittest.TestCase):
    def test_the_last_of_them_in_order(self) -> None:
        trace = Trace()
        for number in range(3 * TRACE_LENGTH + 7):
            trace.append(number * TRACE_EVERY_S, number.to_bytes(4))
            kept = [(at_s, int.from_bytes(data)) for at_s, data in trace.read()]
            first = max(number + 1 - TRACE_LENGTH, 0)
            self.assertEqual(kept, [(one * TRACE_EVERY_S, one) for one in range(first, number + 1)])

    def test_what_comes_too_soon_and_what_has_another_length(self) -> None:
        trace = Trace()
        trace.append(1.0, b"ab")
        trace.append(1.0 + TRACE_EVERY_S / 2, b"cd")
        self.assertEqual(trace.read(), [(1.0, b"ab")])
        trace.append(2.0, b"efgh")
        self.assertEqual(trace.read(), [(2.0, b"efgh")])
        trace.append(0.5, b"late")  # a clock that went back
        self.assertEqual([data for _, data in trace.read()], [b"efgh", b"late"])

    def test_a_time_always_has_its_own_bytes(self) -> None:
        trace, is_over = Trace(), threading.Event()

        def write() -> None:
            number = 0
            while not is_over.is_set():
                number += 1
                trace.append(float(number), number.to_bytes(8))

        writer = threading.Thread(target=write)
        writer.start()
        try:
            for _ in range(2000):
                read = trace.read()
                self.assertTrue(all(at_s == int.from_bytes(data) for at_s, data in read))
                self.assertEqual([at_s for at_s, _ in read], sorted(at_s for at_s, _ in read))
        finally:
            is_over.set()
            writer.join()
