"""The mutants that `tests.mutants` applies, each with the tests that hold its rule. `NAMED` are those of which it is
known that tests once let them pass; `MUTANTS` were chosen at rules and bounds before it was looked which survive."""

from typing import NamedTuple


class Mutant(NamedTuple):
    """`text` of a function or constant becomes another; `tests` are modules of this folder, the quickest first."""

    function: str
    text: str
    becomes: str
    tests: str


NAMED = (
    Mutant("AsciiDecoder.feed", "len(held) > LONGEST:", "len(held) > 4 * LONGEST:", "test_framing"),
    Mutant("RtuDecoder.feed", "len(held) > _MOST_HELD:", "len(held) > 64 * _MOST_HELD:", "test_framing"),
    Mutant("require_end", "address + count > 0x10000", "address + count >= 0x10000", "test_bounds"),
    Mutant("_read_answer", "len(pdu) < 3 or pdu[1] != len(pdu) - 2", "len(pdu) < 3", "test_bounds"),
    Mutant("_span_with_bytes", "pdu[5] != due or len(pdu) != 6 + due", "len(pdu) != 6 + due", "test_bounds"),
    Mutant("Bounded.to_value", "current < BROKEN_MA", "current <= BROKEN_MA", "test_bounds"),
    Mutant("Bounded.to_value", "current > FAULT_MA", "current >= FAULT_MA", "test_bounds"),
    Mutant("order_for", "len(inherited.value) == 2", "len(inherited.value) >= 2", "test_bounds"),
    Mutant("order_for", "len(byte_order.value) > 2", "len(byte_order.value) > 4", "test_bounds"),
    Mutant("may_read", "end - start > device.limits.max_gap", "end - start > device.limits.max_gap + 1", "test_plan"),
    Mutant("plan_site", "part.line != bare_line", "False", "test_planned_again test_plan test_engine"),
    Mutant("_join", "reach - start > rules.most", "reach - start >= rules.most", "test_plan test_bounds"),
    Mutant("_join", " or any(start < at < reach for at in rules.breaks)", "", "test_plan test_bounds"),
    Mutant(
        "Exchanger._is_echo",
        "if not self._has_shown and waiting.strange is None",
        "if False",
        "test_early_answers test_exchange",
    ),
    Mutant(
        "Exchanger._is_echo",
        "if not self._has_character_time or at >= waiting.sent_at - _CLOCK_SLACK_S",
        "if True",
        "test_early_answers test_exchange",
    ),
    Mutant("Exchanger._take_stray", 'in (b"\\x0a", b"\\x0b")', 'in (b"\\x0b",)', "test_bounds"),
    Mutant("Exchanger._finish", "self._free_at += self._quarantine_s", "pass", "test_exchange test_gateways"),
    Mutant("Schedule._earn", "most = 2 * max(", "most = 50 * max(", "test_bounds"),
    Mutant(
        "Readings.stale_after_s",
        "self.cycles_s[block.index], place.device.timeout_s)",
        "self.cycles_s[block.index])",
        "test_bounds",
    ),
    Mutant("Requests.add", "self._waiting.insert(self._urgent, one)", "self._waiting.append(one)", "test_bounds"),
    Mutant("EventLog.note", "len(self._going_on) >= _MOST_GOING_ON", "False", "test_bounds"),
    Mutant("_DEAD", "6", "27", "test_bounds"),
    Mutant("Orders._send", "if now_s - began_s > PATIENCE_S:", "if False:", "test_bounds"),
    Mutant("points_touched", "point.address < items.end and", "point.address <= items.first and", "test_permission"),
    Mutant("Orders._before", "under(now, order.mask) != under(seen, order.mask)", "now != seen", "test_bounds"),
    Mutant("Hold.meets", " or unit_id == 0", "", "test_bounds"),
    Mutant(
        "RegisterSurvey._reply",
        "outcome.code in _BUSY",
        "outcome.code == ExceptionCode.SERVER_DEVICE_BUSY",
        "test_bounds",
    ),
    Mutant("Sparing.__call__", "if self._credit_s < 0:", "if False:", "test_bounds"),
    Mutant("JournalFile.prune", "begun < ? AND ended IS NOT NULL AND id", "begun < ? AND id", "test_bounds"),
    Mutant("RecordSink.on_record", "self._bytes > MOST_WAITING_BYTES", "False", "test_bounds"),
    Mutant("Store.prune", " or last - first < 10", "", "test_bounds"),
    Mutant("NetworkServer.functions_of", "return None if not self._roles else frozenset()", "return None", "test_tls"),
)

MUTANTS = (
    # wire
    Mutant("Raw.__post_init__", "1 <= self.function <= 0x7F", "1 <= self.function <= 0xFF", "test_pdu"),
    Mutant("Refused.__post_init__", "0 <= self.function <= 0x7F", "0 <= self.function <= 0xFF", "test_bounds"),
    Mutant("require_span", "address + count > 0x10000", "address + count >= 0x10000", "test_bounds"),
    Mutant("compose", "not least <= len(words) - 1 <= most", "not least <= len(words) - 1", "test_explain"),
    Mutant("only_reads", "set(Diagnostic) - _CHANGING", "set(Diagnostic)", "test_permission"),
    Mutant("written_by", "has >= 10 and has == 10 + pdu[9]", "has >= 10", "test_bounds"),
    Mutant("_require_records", "not 1 <= file <= 0xFFFF", "not 0 <= file <= 0xFFFF", "test_pdu"),
    Mutant(
        "RtuDecoder._frame_at",
        "SHORTEST <= length <= min(LONGEST, len(self._held) - at)",
        "SHORTEST <= length <= LONGEST",
        "test_bounds",
    ),
    Mutant("TcpDecoder.feed", "2 <= length <= MOST_PDU_BYTES + 1", "2 <= length <= MOST_PDU_BYTES + 2", "test_framing"),
    Mutant("_serial_unit", "if unit > 247", "if unit > 255", "test_bounds"),
    # values
    Mutant("_power_of_ten", "(number != 0 or exact == 0)", "True", "test_bounds"),
    Mutant("Codec._meaning", "abs(read - value) <= _half_unit(value, decimals)", "read == value", "test_bounds"),
    Mutant("_may_be_date", "1 <= day <= 31", "1 <= day <= 32", "test_bounds"),
    Mutant("encode_special", "int(part) <= 255", "int(part) <= 256", "test_bounds"),
    Mutant("typed_value", "len(text) > 1 and text[0] == text[-1]", "text[0] == text[-1]", "test_bounds"),
    # planning
    Mutant("Lessons.note_read", "count >= known.refused", "count > known.refused", "test_bounds"),
    Mutant("Lessons.settle", " or largest_planned > known.read_well", "", "test_plan test_polling"),
    Mutant("_parts_at", ' and not (before & behind - {""})', "", "test_bounds"),
    Mutant(
        "_cheapest",
        "reach - run[window[0][1]].address > rules.most",
        "reach - run[window[0][1]].address >= rules.most",
        "test_plan",
    ),
    Mutant("Rules.may_bridge", "start - end <= self.most_gap", "start - end < self.most_gap", "test_plan"),
    # lines
    Mutant("Exchanger._began_too_early", "at - took_s < waiting.sent_at - _CLOCK_SLACK_S", "False", "test_exchange"),
    Mutant("Exchanger._drop_what_came_before", "self._last_at < gone_at <= at", "False", "test_exchange"),
    Mutant("Exchanger._keep_deadlines", " and not waiting.has_grace", "", "test_exchange"),
    Mutant("Exchanger._take_garbled", "if at < waiting.starts_at:", "if False:", "test_exchange"),
    Mutant(
        "Exchanger._take_in", "self._unanswering > MOST_BABBLE", "self._unanswering > 64 * MOST_BABBLE", "test_exchange"
    ),
    Mutant(
        "Exchanger._without_echo",
        "self._held_echo.removeprefix(self._echo)",
        "self._held_echo",
        "test_links test_early_answers",
    ),
    Mutant("Exchanger._take_stray", "unit_id == frame.unit_id", "True", "test_exchange"),
    Mutant("_stream", "content.next_id <= next_id", "content.next_id < next_id", "test_exchange"),
    Mutant("identify", "conformity & 0x7F >= depth", "conformity & 0x7F > depth", "test_links"),
    Mutant("ask_again", "retries > 0", "retries > 1", "test_exchange"),
    Mutant("split_reads", "most -= most % per_value", "pass", "test_edges"),
    # polling
    Mutant("Readings.exponent_of", "-30 <= value <= 30", "-300 <= value <= 300", "test_edges"),
    Mutant("Clock.look", "abs(off_s) < OFF_S", "abs(off_s) < 100 * OFF_S", "test_edges"),
    Mutant(
        "Judgement._note_block_silent",
        "job.silences >= _BLOCK_SILENCES",
        "job.silences >= 10 * _BLOCK_SILENCES",
        "test_polling test_engine",
    ),
    Mutant("Judgement._watch", "alone_s > _WATCHDOG_SHARE * watchdog_s", "alone_s > watchdog_s", "test_edges"),
    Mutant("LimitWatch._look", "at_s - standing.beyond_s < delay_s - 1e-6", "False", "test_limits"),
    Mutant("Outages.answered", "found.well >= WELL and not is_refusing", "not is_refusing", "test_outages"),
    Mutant("lateness", "reached_s > 1.1 * period_s", "reached_s > 11 * period_s", "test_engine test_polling"),
    Mutant("Schedule.spend", "self._credit_s - took_s", "self._credit_s", "test_engine test_polling"),
    Mutant("WhatMoved.ranked", "len(followed.before) < LEAST_BEFORE", "len(followed.before) < 1", "test_edges"),
    Mutant("Trace.append", "< TRACE_EVERY_S", "< 0.0", "test_trace"),
    # control
    Mutant("KeptAlive._why_away", "silent_s <= self._limit_s() or (", "(", "test_edges"),
    Mutant("Alives.judge", "wish.period_s >= device.watchdog_s", "wish.period_s > device.watchdog_s", "test_edges"),
    Mutant("registers_within", "- more_s - cost.fixed_s", "- cost.fixed_s", "test_edges"),
    Mutant("meets", "return bool(order.mask & other.mask)", "return True", "test_owed"),
    Mutant("_preview", "len(typed.values) != len(spots)", "False", "test_in_advance test_orders test_wanted"),
    Mutant("_read_row", "int(address) > 0xFFFF", "int(address) > 0x10000", "test_edges"),
    Mutant("_hold_to_range", "low is not None and value < low", "low is not None and value <= low", "test_edges"),
    Mutant("_hold_to_range", "high is not None and value > high", "False", "test_edges"),
    Mutant("_word_of_bits", "word > WHOLE", "word > WHOLE + 1", "test_edges"),
    Mutant("Orders._check_holder", "Consent.HOLDER not in order.consents", "False", "test_orders test_alive"),
    # survey
    Mutant("parse_range", "int(high) - int(low) >= MOST_HOSTS", "int(high) - int(low) > MOST_HOSTS", "test_edges"),
    Mutant(
        "LineListener._settle", "heard.frames >= _ENOUGH_FRAMES", "heard.frames >= 1", "test_overhearing test_survey"
    ),
    Mutant("RegisterSurvey._reply", "garbled >= _GARBLED_TRIES", "garbled >= 1", "test_edges"),
    Mutant("Reopened._hear_others", "outcome.done_at - self._heard[0] < _FOREIGN_S", "True", "test_edges"),
    Mutant("TableSearch._touchable", "count = low - first", "pass", "test_edges"),
    Mutant("TableSearch._touchable", "count = min(count, low - first)", "pass", "test_edges"),
    Mutant(
        "ScratchQuestion.wrong",
        "self.address + self.count > LAST_ADDRESS + 1",
        "self.address + self.count > LAST_ADDRESS",
        "test_scratch",
    ),
    # history, capture
    Mutant(
        "Recording._take_beat",
        "at_us - series.at_us >= STILL_US",
        "at_us - series.at_us >= 4 * STILL_US",
        "test_record",
    ),
    Mutant("Store._delete_before", "spans.c.last < at_us", "spans.c.begun < at_us", "test_edges"),
    Mutant("Recording._look_at", "-BREAK_US <= at_us", "-9 * BREAK_US <= at_us", "test_edges"),
    Mutant("History.statistics", "sample.at_us > behind or", "sample.at_us >= behind or", "test_pieces"),
    Mutant("_Conversation.take", "at_us - asked.at_us > _GIVEN_UP_US", "False", "test_captures"),
    Mutant("_row", "not 0 <= unit_id <= 255", "False", "test_edges"),
    Mutant("prune_aside", "number >= MOST_ASIDE", "number > MOST_ASIDE", "test_edges"),
    # serving
    Mutant("Admission.tell", "now - last_s < _AGAIN_S", "False", "test_attacked"),
    Mutant("Hearing.take", "silence_s > self._most_pause_s", "False", "test_edges"),
    Mutant("_Connection._note_noise", "self._noise > _MOST_NOISE", "False", "test_attacked"),
    Mutant(
        "_Connection._write",
        "self._transport.get_write_buffer_size() > _MOST_UNSENT",
        "False",
        "test_edges",
    ),
    Mutant(
        "PortServer._without_own",
        "self._alike > _MOST_ALIKE",
        "self._alike > 0",
        "test_attacked test_early_answers test_serving",
    ),
    # site, files, tables, editing, supervision
    Mutant("_power", "<= _MOST_POWER_BITS", "<= 1000 * _MOST_POWER_BITS", "test_edges"),
    Mutant("_check", "depth > _MOST_DEPTH", "False", "test_hostile_files test_site"),
    Mutant("SerialSettings.gap_s", "self.baud > 19200", "self.baud >= 19200", "test_edges"),
    Mutant("OwnNumbering.from_wire", "offset < 0 or over", "over", "test_edges"),
    Mutant("_overlaps", "end > reached", "end >= reached", "test_edges"),
    Mutant("_fifo", "len(words) > MOST_FIFO", "len(words) > MOST_FIFO + 1", "test_edges"),
    Mutant("merged", "change.start < at", "False", "test_two_writers"),
    Mutant("guess_numbering", "references > len(texts) / 2", "references > 0", "test_edges"),
    Mutant("Steps.note", "len(self._done) > _MOST_STEPS", "len(self._done) > 10 * _MOST_STEPS", "test_edges"),
    Mutant("_Follower.hear", "now - said_s < _AGAIN_S", "False", "test_faults"),
)
