"""Tables, function codes and exception codes of the application protocol (1.1b3, sections 4.3, 5 and 7)."""

from enum import Enum, IntEnum


class Function(IntEnum):
    READ_COILS = 0x01
    READ_DISCRETE_INPUTS = 0x02
    READ_HOLDING_REGISTERS = 0x03
    READ_INPUT_REGISTERS = 0x04
    WRITE_COIL = 0x05
    WRITE_REGISTER = 0x06
    READ_EXCEPTION_STATUS = 0x07
    DIAGNOSTICS = 0x08
    COMM_EVENT_COUNTER = 0x0B
    COMM_EVENT_LOG = 0x0C
    WRITE_COILS = 0x0F
    WRITE_REGISTERS = 0x10
    REPORT_SERVER_ID = 0x11
    READ_FILE_RECORD = 0x14
    WRITE_FILE_RECORD = 0x15
    MASK_WRITE_REGISTER = 0x16
    READ_WRITE_REGISTERS = 0x17
    READ_FIFO_QUEUE = 0x18
    ENCAPSULATED = 0x2B


class ExceptionCode(IntEnum):
    ILLEGAL_FUNCTION = 0x01
    ILLEGAL_DATA_ADDRESS = 0x02
    ILLEGAL_DATA_VALUE = 0x03
    SERVER_DEVICE_FAILURE = 0x04
    ACKNOWLEDGE = 0x05
    SERVER_DEVICE_BUSY = 0x06
    MEMORY_PARITY_ERROR = 0x08
    GATEWAY_PATH_UNAVAILABLE = 0x0A
    GATEWAY_TARGET_FAILED = 0x0B


_EXCEPTION_TEXT = {
    0x01: "illegal function",
    0x02: "illegal data address",
    0x03: "illegal data value",
    0x04: "server device failure",
    0x05: "acknowledge: the device works on it",
    0x06: "server device busy",
    0x08: "memory parity error",
    0x0A: "gateway path unavailable",
    0x0B: "gateway target failed to respond",
}


def exception_text(code: int) -> str:
    """What an exception code means, in the standard's words."""
    return _EXCEPTION_TEXT.get(code, "a code that the standard does not define")


class Table(Enum):
    """The four tables of a device. The value is the word used in files and on the command line."""

    __hash__ = object.__hash__  # members are their own; Enum's hashes its name, in Python, at every look-up

    COIL = "coil"
    DISCRETE = "discrete"
    INPUT = "input"
    HOLDING = "holding"

    is_bits: bool
    is_writable: bool
    function: int
    """The function that reads it."""
    reference_digit: int
    """The leading digit of its references: 0xxxx, 1xxxx, 3xxxx, 4xxxx."""
    most_read: int
    """How many of its items one request may read."""

    def __init__(self, word: str) -> None:
        self.is_bits = word in ("coil", "discrete")
        self.is_writable = word in ("coil", "holding")
        self.function = {"coil": 1, "discrete": 2, "holding": 3, "input": 4}[word]
        self.reference_digit = {"coil": 0, "discrete": 1, "input": 3, "holding": 4}[word]
        self.most_read = 2000 if self.is_bits else 125

    @property
    def read_function(self) -> Function:
        return Function(self.function)

    @property
    def title(self) -> str:
        return _TITLE[self]

    def counted(self, count: int) -> str:
        """So many of them: 1 coil, 2 coils."""
        return f"{count} {self.title if count != 1 else self.title[:-1]}"


_TITLE = {
    Table.COIL: "coils",
    Table.DISCRETE: "discrete inputs",
    Table.INPUT: "input registers",
    Table.HOLDING: "holding registers",
}
TABLE_READ_BY = {table.function: table for table in Table}

MOST_WRITE_BITS = 1968
MOST_WRITE_REGISTERS = 123
MOST_PDU_BYTES = 253
MOST_READ_WRITE_REGISTERS = 121  # written by 0x17; it reads as many as 0x03
SERIAL_ONLY = frozenset(
    {
        Function.READ_EXCEPTION_STATUS,
        Function.DIAGNOSTICS,
        Function.COMM_EVENT_COUNTER,
        Function.COMM_EVENT_LOG,
        Function.REPORT_SERVER_ID,
    }
)


WRITING = frozenset({0x05, 0x06, 0x0F, 0x10, 0x15, 0x16, 0x17})
"""Functions that write (application protocol 1.1b3, 6)."""
BROADCAST = WRITING - {0x17}
"""Functions that make sense for all units at once: those that write and want no answer (serial line 1.02, 2.1)."""
