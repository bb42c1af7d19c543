"""All requests and answers in one place: which there are, how they are read from a PDU, and which answer fits which
request.

The messages themselves stand in `access` (bits and registers), `records` (files, masks, queues), `diagnostics` (serial
line) and `identity`. A function that is in none of them is `Raw`.
"""

from collections.abc import Callable

from kanaleto.wire import access, diagnostics, identity, records
from kanaleto.wire.access import Read, ReadAnswer, SpanWritten, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.base import PduError, Raw, Refused, pack_bits, unpack_bits
from kanaleto.wire.codes import MOST_PDU_BYTES, ExceptionCode
from kanaleto.wire.diagnostics import CommEventLog, Diagnose, EventCounter, ExceptionStatus, Plain, ServerId
from kanaleto.wire.identity import Identify, Identity
from kanaleto.wire.records import Fifo, FileRead, MaskWrite, ReadBack, ReadFifo, ReadFile, WriteFile, WriteThenRead

__all__ = [
    "Answer",
    "PduError",
    "Raw",
    "Read",
    "ReadAnswer",
    "Refused",
    "Request",
    "SpanWritten",
    "WriteCoil",
    "WriteCoils",
    "WriteRegister",
    "WriteRegisters",
    "mismatch",
    "pack_bits",
    "parse_answer",
    "parse_request",
    "unpack_bits",
]

Request = (
    Read | WriteCoil | WriteRegister | WriteCoils | WriteRegisters | MaskWrite | WriteThenRead
    | ReadFile | WriteFile | ReadFifo | Plain | Diagnose | Identify | Raw
)  # fmt: skip
Answer = (
    ReadAnswer | WriteCoil | WriteRegister | SpanWritten | MaskWrite | ReadBack | FileRead | WriteFile | Fifo
    | ExceptionStatus | Diagnose | EventCounter | CommEventLog | ServerId | Identity | Refused | Raw
)  # fmt: skip

_REQUESTS: dict[int, Callable[[bytes], Request]] = {
    **access.REQUESTS,
    **records.REQUESTS,
    **diagnostics.REQUESTS,
    **identity.REQUESTS,
}
_ANSWERS: dict[int, Callable[[bytes], Answer]] = {
    **access.ANSWERS,
    **records.ANSWERS,
    **diagnostics.ANSWERS,
    **identity.ANSWERS,
}


def parse_request(pdu: bytes) -> Request:
    """A request from its PDU. Raises PduError with the exception to answer; unknown functions come back as `Raw`."""
    if not pdu or len(pdu) > MOST_PDU_BYTES:
        raise PduError(f"a PDU of {len(pdu)} bytes")
    if not 1 <= pdu[0] <= 0x7F:
        raise PduError(f"function code {pdu[0]} is not in 1…127", ExceptionCode.ILLEGAL_FUNCTION)
    parser = _REQUESTS.get(pdu[0])
    return parser(pdu) if parser else Raw(pdu[0], pdu[1:])


def parse_answer(pdu: bytes) -> Answer:
    """An answer from its PDU. Raises PduError; unknown functions come back as `Raw`."""
    if not pdu or len(pdu) > MOST_PDU_BYTES:
        raise PduError(f"a PDU of {len(pdu)} bytes")
    function = pdu[0]
    if function & 0x80:
        if len(pdu) != 2 or function == 0x80:
            raise PduError(f"an exception answer of {len(pdu)} bytes, 2 are due")
        return Refused(function & 0x7F, pdu[1])
    if function == 0:
        raise PduError("function code 0 is not defined")
    parser = _ANSWERS.get(function)
    return parser(pdu) if parser else Raw(function, pdu[1:])


def mismatch(request: Request, answer: Answer) -> str | None:
    """Why `answer` cannot be the answer to `request`, or None when it can: strict, field by field."""
    if answer.function != request.function:
        return f"function 0x{answer.function:02X} answers 0x{request.function:02X}"
    return None if isinstance(answer, Refused) else request.wrong_with(answer)
