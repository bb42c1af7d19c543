"""Rows of the open standard, each with its section: what a slave answers to a request, what a master sends and makes of
an answer, what counters and log say. AP is the application protocol 1.1b3, SL the serial line 1.02."""

from kanaleto.wire.codes import Table
from kanaleto.wire.diagnostics import Diagnose, Plain
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Raw, Read, Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.records import FileData, FileSpan, MaskWrite, ReadFifo, ReadFile, WriteFile, WriteThenRead


def words(first: int, count: int) -> str:
    """Registers that hold their address."""
    return "".join(f"{address:04X}" for address in range(first, first + count))


MAP = (
    "name,table,address,type,access,initial\n"
    + "".join(f"H{at},holding,{at},uint16,rw,{at}\n" for at in range(300))
    + "".join(f"I{at},input,{at},uint16,r,{at}\n" for at in range(130))
    + "".join(f"C{at},coil,{at},,rw,{at % 3 == 0:d}\n" for at in range(2100))
    + "".join(f"D{at},discrete,{at},,r,{at % 2}\n" for at in range(2000))
    + "Fixed,holding,400,uint16,r,7\n"
)


def bits(first: int, count: int, step: int) -> str:
    """Packed bits, on where the address divides by `step` (AP 6.1: the lowest in bit 0 of the first byte)."""
    data = bytearray((count + 7) // 8)
    for number in range(count):
        if (first + number) % step == 0:
            data[number // 8] |= 1 << number % 8
    return data.hex()


odd = bytes([0xAA] * 250).hex()  # discrete inputs: every odd address is on

SLAVE: list[tuple[str, str, str | None]] = [
    ("AP 6.1", "01 0000 0001", "01 01 01"),
    ("AP 6.1", "01 0000 0009", "01 02 49 00"),
    ("AP 6.1", "01 0000 07D0", "01 FA" + bits(0, 2000, 3)),
    ("AP 6.1 most", "01 0000 07D1", "81 03"),
    ("AP 6.1 none", "01 0000 0000", "81 03"),
    ("AP 6.1 quantity before address", "01 FFFF 0000", "81 03"),
    ("AP 6.1 past the end", "01 FFFF 0002", "81 02"),
    ("AP 6.1 past the map", "01 0833 0002", "81 02"),
    ("AP 6.2", "02 0000 0008", "02 01 AA"),
    ("AP 6.2", "02 0000 07D0", "02 FA" + odd),
    ("AP 6.2 most", "02 0000 07D1", "82 03"),
    ("AP 6.3", "03 0000 0001", "03 02 0000"),
    ("AP 6.3", "03 0064 007D", "03 FA" + words(100, 125)),
    ("AP 6.3 most", "03 0000 007E", "83 03"),
    ("AP 6.3 none", "03 0000 0000", "83 03"),
    ("AP 6.3 quantity before address", "03 9999 007E", "83 03"),
    ("AP 6.3 address", "03 0190 0002", "83 02"),
    ("AP 6.3 past the last address", "03 FFFF 0002", "83 02"),
    ("AP 6.3 short", "03 0000", "83 03"),
    ("AP 6.3 long", "03 0000 0001 00", "83 03"),
    ("AP 6.4", "04 0001 007D", "04 FA" + words(1, 125)),
    ("AP 6.4 most", "04 0000 007E", "84 03"),
    ("AP 6.4 address", "04 0082 0001", "84 02"),
    ("AP 6.5", "05 0001 FF00", "05 0001 FF00"),
    ("AP 6.5 read back", "01 0000 0003", "01 01 03"),
    ("AP 6.5", "05 0001 0000", "05 0001 0000"),
    ("AP 6.5 value before address", "05 9999 0001", "85 03"),
    ("AP 6.5 address", "05 9999 FF00", "85 02"),
    ("AP 6.6", "06 0005 FFFF", "06 0005 FFFF"),
    ("AP 6.6 read back", "03 0005 0001", "03 02 FFFF"),
    ("AP 6.6", "06 0005 0005", "06 0005 0005"),
    ("AP 6.6 address", "06 9999 0001", "86 02"),
    ("AP 6.6 read-only", "06 0190 0001", "86 02"),
    ("AP 6.6 short", "06 0005 00", "86 03"),
    ("AP 6.11", "0F 0834 000A 02 0000", "8F 02"),
    ("AP 6.11", "0F 0800 000A 02 FF03", "0F 0800 000A"),
    ("AP 6.11 read back", "01 0800 000A", "01 02 FF03"),
    ("AP 6.11 most", "0F 0000 07B0 F6" + bits(0, 1968, 3), "0F 0000 07B0"),
    ("AP 6.11 more", "0F 0000 07B1 F7" + "00" * 247, "8F 03"),
    ("AP 6.11 none", "0F 0000 0000 00", "8F 03"),
    ("AP 6.11 byte count", "0F 0000 000A 01 FF", "8F 03"),
    ("AP 6.12", "10 0001 0002 04 000A 0102", "10 0001 0002"),
    ("AP 6.12 read back", "03 0001 0002", "03 04 000A 0102"),
    ("AP 6.12", "10 0001 0002 04 0001 0002", "10 0001 0002"),
    ("AP 6.12 most", "10 0000 007B F6" + words(0, 123), "10 0000 007B"),
    ("AP 6.12 more", "10 0000 007C F6" + words(0, 123), "90 03"),
    ("AP 6.12 none", "10 0000 0000 00", "90 03"),
    ("AP 6.12 byte count", "10 0000 0002 02 0001", "90 03"),
    ("AP 6.12 bytes missing", "10 0000 0002 04 0001", "90 03"),
    ("AP 6.12 quantity before address", "10 9999 0000 00", "90 03"),
    ("AP 6.12 one of them read-only", "10 018F 0002 04 0001 0002", "90 02"),
    ("AP 6.14", "14 07 06 0004 0002 0002", "14 06 05 06 0000 0000"),
    ("AP 6.15", "15 0B 06 0004 0002 0002 ABCD 1234", "15 0B 06 0004 0002 0002 ABCD 1234"),
    ("AP 6.14 two groups", "14 0E 06 0004 0002 0001 06 0004 0003 0001", "14 08 03 06 ABCD 03 06 1234"),
    ("AP 6.14 byte count", "14 06 06 0004 0002 00", "94 03"),
    ("AP 6.14 reference", "14 07 05 0004 0002 0001", "94 02"),
    ("AP 6.14 file", "14 07 06 0005 0000 0001", "94 02"),
    ("AP 6.14 past record 9999", "14 07 06 0004 270F 0002", "94 02"),
    ("AP 6.15 byte count", "15 08 06 0004 0000 0000 00", "95 03"),
    ("AP 6.16", "06 0004 0012", "06 0004 0012"),
    ("AP 6.16", "16 0004 00F2 0025", "16 0004 00F2 0025"),
    ("AP 6.16 result", "03 0004 0001", "03 02 0017"),
    ("AP 6.16", "06 0004 0004", "06 0004 0004"),
    ("AP 6.16 address", "16 9999 00F2 0025", "96 02"),
    ("AP 6.17 writes first", "17 0003 0006 0003 0003 06 00FF 00FF 00FF", "17 0C 00FF 00FF 00FF 0006 0007 0008"),
    ("AP 6.17", "10 0003 0003 06 0003 0004 0005", "10 0003 0003"),
    ("AP 6.17 most", "17 0000 007D 0000 0079 F2" + words(0, 121), "17 FA" + words(0, 125)),
    ("AP 6.17 reads more", "17 0000 007E 0000 0001 02 0000", "97 03"),
    ("AP 6.17 writes more", "17 0000 0001 0000 007A F2" + words(0, 121), "97 03"),
    ("AP 6.17 byte count", "17 0000 0001 0000 0001 04 0000", "97 03"),
    ("AP 6.17 address", "17 9999 0001 0000 0001 02 0000", "97 02"),
    ("AP 6.18", "18 0028", "18 0006 0002 01B8 1284"),
    ("AP 6.18 address", "18 0029", "98 02"),
    ("AP 6.18 more than 31", "18 0032", "98 03"),
    ("AP 6.19 other type", "2B 0D 00 01", "AB 01"),
    ("AP 6.19 type not defined", "2B 7F", "AB 01"),
    ("AP 6.21 one", "2B 0E 04 00", "2B 0E 04 83 00 00 01 00 05 416C646572"),
    ("AP 6.21 basic", "2B 0E 01 00", "2B 0E 01 83 00 00 03 00 05 416C646572 01 01 41 02 01 42"),
    ("AP 6.21 unknown in a stream: from the first", "2B 0E 01 55",
     "2B 0E 01 83 00 00 03 00 05 416C646572 01 01 41 02 01 42"),
    ("AP 6.21 unknown alone", "2B 0E 04 55", "AB 02"),
    ("AP 6.21 access code", "2B 0E 05 00", "AB 03"),
    ("AP 6.21 access code", "2B 0E 00 00", "AB 03"),
    ("AP 6.21 short", "2B 0E 01", "AB 03"),
    ("AP 7 function not known", "41 01 02", "C1 01"),
    ("AP 7 function before all", "09 FFFF FFFF", "89 01"),
]  # fmt: skip

SERIAL: list[tuple[str, str, str | None]] = [
    ("AP 6.7", "07", "07 49"),
    ("AP 6.7 long", "07 00", "87 03"),
    ("AP 6.8.1 00", "08 0000 A537", "08 0000 A537"),
    ("AP 6.8.1 00 more", "08 0000 A537 0001 0203", "08 0000 A537 0001 0203"),
    ("AP 6.8.1 02", "08 0002 0000", "08 0002 0000"),
    ("AP 6.8.1 02 data", "08 0002 0001", "88 03"),
    ("AP 6.8.1 0B data", "08 000B 0001", "88 03"),
    ("AP 6.8.1 01 data", "08 0001 0001", "88 03"),
    ("AP 6.8.1 not defined", "08 0005 0000", "88 01"),
    ("AP 6.8.1 not defined", "08 0013 0000", "88 01"),
    ("AP 6.8.1 14", "08 0014 0000", "08 0014 0000"),
    ("AP 6.13", "11", "11 06 53 4C 2D 31 20 FF"),
    ("AP 6.13 long", "11 00", "91 03"),
]
"""Functions of serial lines only (AP 5.1, 6.7 to 6.10, 6.13); elsewhere they are answered 01."""

_BEFORE = "40C0 4080 40C0 4080 4180 4080 82 4080"  # sent and received, the newest first

# who is asked (0 all, 6 another device), the request ("" noise), the answer (None none)
COUNTED: list[tuple[str, int, str, str | None]] = [
    ("AP 6.8.1 0B", 5, "08 000B 0000", "08 000B 0001"),
    ("AP 6.8.1 0B another's counts too", 6, "03 0000 0001", "03 02 0000"),
    ("AP 6.8.1 0C", 5, "", None),
    ("AP 6.8.1 0C", 5, "08 000C 0000", "08 000C 0001"),
    ("AP 6.8.1 0D", 5, "03 0000 0000", "83 03"),
    ("AP 6.8.1 0D", 5, "08 000D 0000", "08 000D 0001"),
    ("AP 6.8.1 0F", 0, "06 0000 0000", None),
    ("AP 6.8.1 0F", 5, "08 000F 0000", "08 000F 0001"),
    ("SL A: of broadcasts too", 0, "06 FFFF 0007", None),
    ("SL A: of broadcasts too", 5, "08 000D 0000", "08 000D 0002"),
    ("AP 6.8.1 0E", 5, "08 000E 0000", "08 000E 0009"),
    ("AP 6.8.1 10", 5, "08 0010 0000", "08 0010 0000"),
    ("AP 6.8.1 11", 5, "08 0011 0000", "08 0011 0000"),
    ("AP 6.8.1 12", 5, "08 0012 0000", "08 0012 0000"),
    ("AP 6.9 not for exceptions", 5, "0B", "0B 0000 000A"),
    ("AP 6.9 not for itself", 5, "0B", "0B 0000 000A"),
    ("AP 6.10", 5, "0C", "0C 24 0000 000A 0010 80" + "4080" * 7 + _BEFORE),
    ("AP 6.8.1 04", 5, "08 0004 0000", None),
    ("AP 6.8.1 04 only listened", 5, "03 0000 0001", None),
    ("AP 6.8.1 04 only this device", 6, "03 0001 0001", "03 02 0001"),
    ("AP 6.8.1 01 brings it back, unanswered", 5, "08 0001 0000", None),
    ("AP 6.10 log is kept, counters are not", 5, "0C",
     "0C 2D 0000 0000 0001 80 00 60A0 A0 6004 80" + "4080" * 8 + _BEFORE),
    ("AP 6.8.1 01 answered first", 5, "08 0001 FF00", "08 0001 FF00"),
    ("AP 6.10 log is cleared too", 5, "0C", "0C 08 0000 0000 0001 80 00"),
    ("AP 6.8.1 0A", 5, "08 000A 0000", "08 000A 0000"),
    ("AP 6.8.1 0B since then", 5, "08 000B 0000", "08 000B 0001"),
    ("AP 6.8.1 0D since then", 5, "08 000D 0000", "08 000D 0000"),
]  # fmt: skip

ALIKE = ""
"""The answer repeats the request."""
MASTER: list[tuple[str, Request, str, str, str]] = [
    ("AP 6.1", Read(Table.COIL, 19, 19), "01 0013 0013", "01 03 CD6B05", "good"),
    ("AP 6.1 most", Read(Table.COIL, 0, 2000), "01 0000 07D0", "01 FA" + odd, "good"),
    ("AP 6.2", Read(Table.DISCRETE, 196, 22), "02 00C4 0016", "02 03 ACDB35", "good"),
    ("AP 6.3", Read(Table.HOLDING, 107, 3), "03 006B 0003", "03 06 022B 0000 0064", "good"),
    ("AP 6.3 most", Read(Table.HOLDING, 100, 125), "03 0064 007D", "03 FA" + words(100, 125), "good"),
    ("AP 6.4", Read(Table.INPUT, 8, 1), "04 0008 0001", "04 02 000A", "good"),
    ("AP 6.4 last", Read(Table.INPUT, 65535, 1), "04 FFFF 0001", "04 02 FFFF", "good"),
    ("AP 6.5", WriteCoil(172, True), "05 00AC FF00", ALIKE, "good"),
    ("AP 6.5", WriteCoil(172, False), "05 00AC 0000", ALIKE, "good"),
    ("AP 6.6", WriteRegister(1, 3), "06 0001 0003", ALIKE, "good"),
    ("AP 6.11", WriteCoils(19, (True, False, True, True, False, False, True, True, True, False)),
     "0F 0013 000A 02 CD01", "0F 0013 000A", "good"),
    ("AP 6.11 most", WriteCoils(0, (False, True) * 984), "0F 0000 07B0 F6" + "AA" * 246, "0F 0000 07B0", "good"),
    ("AP 6.12", WriteRegisters(1, (10, 258)), "10 0001 0002 04 000A 0102", "10 0001 0002", "good"),
    ("AP 6.12 most", WriteRegisters(0, tuple(range(123))), "10 0000 007B F6" + words(0, 123), "10 0000 007B", "good"),
    ("AP 6.14", ReadFile((FileSpan(4, 1, 2), FileSpan(3, 9, 2))), "14 0E 06 0004 0001 0002 06 0003 0009 0002",
     "14 0C 05 06 0DFE 0020 05 06 33CD 0040", "good"),
    ("AP 6.15", WriteFile((FileData(4, 7, bytes.fromhex("06AF04BE100D")),)),
     "15 0D 06 0004 0007 0003 06AF 04BE 100D", ALIKE, "good"),
    ("AP 6.16", MaskWrite(4, 0xF2, 0x25), "16 0004 00F2 0025", ALIKE, "good"),
    ("AP 6.17", WriteThenRead(3, 6, 14, (255, 255, 255)), "17 0003 0006 000E 0003 06 00FF 00FF 00FF",
     "17 0C 00FE 0ACD 0001 0003 000D 00FF", "good"),
    ("AP 6.18", ReadFifo(1246), "18 04DE", "18 0006 0002 01B8 1284", "good"),
    ("AP 6.21", Identify(Depth.BASIC), "2B 0E 01 00", "2B 0E 01 01 00 00 02 00 02 4142 01 01 43", "good"),
    ("AP 6.21 the one asked for", Identify(Depth.ONE, 4), "2B 0E 04 04", "2B 0E 04 81 00 00 01 04 02 4142", "good"),
    ("AP 6.7", Plain(7), "07", "07 6D", "good"),
    ("AP 6.8", Diagnose(0, b"\xa5\x37"), "08 0000 A537", ALIKE, "good"),
    ("AP 6.8", Diagnose(0x0B), "08 000B 0000", "08 000B 0108", "good"),
    ("AP 6.9", Plain(0x0B), "0B", "0B FFFF 0108", "good"),
    ("AP 6.10", Plain(0x0C), "0C", "0C 08 0000 0108 0121 20 00", "good"),
    ("AP 6.13", Plain(0x11), "11", "11 04 41 42 FF 43", "good"),
    ("a maker's own", Raw(0x64, b"\1\2"), "64 0102", "64 09", "good"),
    ("AP 7", Read(Table.HOLDING, 0, 1), "03 0000 0001", "83 02", "exception"),
    ("AP 7 a code that is not defined", Read(Table.HOLDING, 0, 1), "03 0000 0001", "83 7F", "exception"),
    ("AP 7", WriteRegister(1, 3), "06 0001 0003", "86 04", "exception"),
    ("AP 4.1 another function", Read(Table.HOLDING, 0, 1), "03 0000 0001", "04 02 0001", "bad"),
    ("AP 7 another's exception", Read(Table.HOLDING, 0, 1), "03 0000 0001", "84 02", "bad"),
    ("AP 6.3 too few", Read(Table.HOLDING, 0, 2), "03 0000 0002", "03 02 0001", "bad"),
    ("AP 6.3 too many", Read(Table.HOLDING, 0, 1), "03 0000 0001", "03 04 0001 0002", "bad"),
    ("AP 6.5 another value", WriteCoil(1, True), "05 0001 FF00", "05 0001 0000", "bad"),
    ("AP 6.6 another address", WriteRegister(1, 3), "06 0001 0003", "06 0002 0003", "bad"),
    ("AP 6.12 another quantity", WriteRegisters(1, (10, 258)), "10 0001 0002 04 000A 0102", "10 0001 0001", "bad"),
    ("AP 6.16 another mask", MaskWrite(4, 0xF2, 0x25), "16 0004 00F2 0025", "16 0004 00F2 0026", "bad"),
    ("AP 6.21 another object", Identify(Depth.ONE, 4), "2B 0E 04 04", "2B 0E 04 81 00 00 01 05 02 4142", "bad"),
]  # fmt: skip
"""What is asked, its PDU, the PDU that comes, and what must become of it."""
