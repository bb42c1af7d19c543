"""A request or an answer from words, as a person types them: the inverse of explaining one."""

import re
from collections.abc import Callable

from kanaleto.wire.base import Message
from kanaleto.wire.codes import Function, Table
from kanaleto.wire.diagnostics import Diagnose, Plain
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import (
    Raw,
    Read,
    ReadAnswer,
    Refused,
    WriteCoil,
    WriteCoils,
    WriteRegister,
    WriteRegisters,
    pack_bits,
)
from kanaleto.wire.records import FileData, FileSpan, MaskWrite, ReadFifo, ReadFile, WriteFile, WriteThenRead

FORMS = {
    "read": "read TABLE ADDRESS [COUNT]",
    "write": "write coil|holding ADDRESS VALUE…",
    "multiple": "multiple coil|holding ADDRESS VALUE…   (0F and 10, for one value too)",
    "mask": "mask ADDRESS AND OR",
    "exchange": "exchange READ_ADDRESS COUNT WRITE_ADDRESS VALUE…   (0x17)",
    "fifo": "fifo ADDRESS",
    "read-file": "read-file FILE RECORD COUNT",
    "write-file": "write-file FILE RECORD VALUE…",
    "status": "status   (0x07)",
    "events": "events   (0x0B)",
    "log": "log   (0x0C)",
    "server-id": "server-id   (0x11)",
    "diagnose": "diagnose SUB_FUNCTION [WORD]",
    "identify": "identify basic|regular|extended|one [OBJECT]",
    "answer": "answer TABLE VALUE…   (the answer to a read)",
    "exception": "exception FUNCTION CODE",
    "raw": "raw HEX   (function code and data)",
}


def compose(words: list[str]) -> Message:
    """Raises ValueError with the form that would be right, or with what the standard forbids."""
    if not words or words[0] not in FORMS:
        raise ValueError(f"{words[0] if words else ''!r} is nothing to compose; there are {', '.join(FORMS)}")
    least, most = _WORDS[words[0]]
    if not least <= len(words) - 1 <= most:
        raise ValueError(f"the form is: {FORMS[words[0]]}")
    try:
        return _MAKERS[words[0]](words[1:])
    except (IndexError, TypeError):
        raise ValueError(f"the form is: {FORMS[words[0]]}") from None


def _number(text: str) -> int:
    if not re.fullmatch(r"[+-]?(0[xX][0-9A-Fa-f]{1,8}|[0-9]{1,10})", text):
        raise ValueError(f"{text!r} is no whole number (decimal, or 0x…)")
    return int(text, 16 if "x" in text.lower() else 10)


def _word(text: str) -> int:
    number = _number(text)
    if not -0x8000 <= number <= 0xFFFF:
        raise ValueError(f"{text} does not fit one register (-32768…65535)")
    return number & 0xFFFF


def _words(texts: list[str]) -> tuple[int, ...]:
    return tuple(_word(text) for text in texts)


def _bit(text: str) -> bool:
    if text.lower() not in ("0", "1", "on", "off"):
        raise ValueError(f"{text!r} is no state of a coil; write 1, 0, on or off")
    return text.lower() in ("1", "on")


def _table(text: str) -> Table:
    try:
        return Table(text.lower())
    except ValueError:
        raise ValueError(f"table {text!r} is not known; there are coil, discrete, input, holding") from None


def _writable(text: str) -> Table:
    table = _table(text)
    if not table.is_writable:
        raise ValueError(f"nobody can write {table.title}; write coil or holding")
    return table


def _write(args: list[str]) -> Message:
    if _writable(args[0]) is Table.COIL:
        return WriteCoil(_number(args[1]), _bit(args[2])) if len(args) == 3 else _multiple(args)
    return WriteRegister(_number(args[1]), _word(args[2])) if len(args) == 3 else _multiple(args)


def _multiple(args: list[str]) -> Message:
    if _writable(args[0]) is Table.COIL:
        return WriteCoils(_number(args[1]), tuple(_bit(text) for text in args[2:]))
    return WriteRegisters(_number(args[1]), _words(args[2:]))


def _identify(args: list[str]) -> Message:
    names = {depth.name.lower(): depth for depth in Depth}
    if args[0].lower() not in names:
        raise ValueError(f"{args[0]!r} is no access; there are {', '.join(names)}")
    return Identify(names[args[0].lower()], _number(args[1]) if len(args) > 1 else 0)


def _answer(args: list[str]) -> Message:
    table = _table(args[0])
    if len(args) - 1 > table.most_read:
        raise ValueError(f"{len(args) - 1} {table.title} in one answer: the standard allows {table.most_read}")
    if table.is_bits:
        return ReadAnswer(table, pack_bits(tuple(_bit(text) for text in args[1:])))
    return ReadAnswer(table, b"".join(word.to_bytes(2) for word in _words(args[1:])))


def _raw(args: list[str]) -> Message:
    digits = "".join(args).replace(":", "").replace("0x", "")
    if not re.fullmatch(r"([0-9A-Fa-f]{2})+", digits):
        raise ValueError(f"{digits!r} are no whole bytes in hexadecimal")
    data = bytes.fromhex(digits)
    return Raw(data[0], data[1:])


def _exception(args: list[str]) -> Message:
    code = _number(args[1])
    if code == 0:
        raise ValueError("exception 0 is none; the codes are 1…255")
    return Refused(_number(args[0]), code)


_MANY = 3000
_WORDS = {
    "read": (2, 3), "write": (3, _MANY), "multiple": (3, _MANY), "mask": (3, 3), "exchange": (4, _MANY),
    "fifo": (1, 1), "read-file": (3, 3), "write-file": (3, _MANY), "status": (0, 0), "events": (0, 0), "log": (0, 0),
    "server-id": (0, 0), "diagnose": (1, 2), "identify": (1, 2), "answer": (2, _MANY), "exception": (2, 2),
    "raw": (1, _MANY),
}  # fmt: skip
"""How many words each takes."""
_MAKERS: dict[str, Callable[[list[str]], Message]] = {
    "read": lambda args: Read(_table(args[0]), _number(args[1]), _number(args[2]) if len(args) > 2 else 1),
    "write": _write,
    "multiple": _multiple,
    "mask": lambda args: MaskWrite(_number(args[0]), _word(args[1]), _word(args[2])),
    "exchange": lambda args: WriteThenRead(_number(args[0]), _number(args[1]), _number(args[2]), _words(args[3:])),
    "fifo": lambda args: ReadFifo(_number(args[0])),
    "read-file": lambda args: ReadFile((FileSpan(_number(args[0]), _number(args[1]), _number(args[2])),)),
    "write-file": lambda args: WriteFile(
        (FileData(_number(args[0]), _number(args[1]), b"".join(word.to_bytes(2) for word in _words(args[2:]))),)
    ),
    "status": lambda args: Plain(Function.READ_EXCEPTION_STATUS),
    "events": lambda args: Plain(Function.COMM_EVENT_COUNTER),
    "log": lambda args: Plain(Function.COMM_EVENT_LOG),
    "server-id": lambda args: Plain(Function.REPORT_SERVER_ID),
    "diagnose": lambda args: Diagnose(_number(args[0]), (_word(args[1]) if len(args) > 1 else 0).to_bytes(2)),
    "identify": _identify,
    "answer": _answer,
    "exception": _exception,
    "raw": _raw,
}
