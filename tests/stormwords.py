"""What the storm presses and types."""

SIZES = ((160, 47), (100, 30), (80, 24), (60, 16), (50, 14))
MOVES = (
    "Up",
    "Down",
    "Left",
    "Right",
    "h",
    "j",
    "k",
    "l",
    "PPage",
    "NPage",
    "Home",
    "End",
    "Tab",
    "BTab",
    "Enter",
    "Escape",
)
LETTERS = (*"abcdefgimnoprstuvwxyzACEFKLMNRRSVW", "[", "]", "{", "}", "<", ">", "+", "-", "%", "?", "/", "DC", "Space")
ADDED = (
    "New {n}, {a}, uint16",
    "Run {{1..4}}, {a}, float32, step 2",
    "Far, 70001, int16",
    "Half, 3",
    "Ref {n}, 40021, int16",
    "",
    "x",
)
CHANGED = (
    "factor=0.1",
    "unit=kW",
    "decimals=2",
    "type=int32",
    "order=CDAB",
    "nonsense",
    "name=Level 1",
    "period_s=0.2",
    "address={a}",
)
SETTLED = (" period_s=0.5", " timeout_s=0.4", "x", "9", " nonsense", " retries=0", " max_gap=2", " perid_s=1", "  ")
"""Typed into a line that holds a device's settings already: none of it takes a map, a limit or a note away."""
KEPT = 'max_registers = 100\nnote = "kept"\n'
ANSWERS = ("12.5", "", "4-20mA", "100=1", "~/no-such-file.csv", "r", "y")
WRITTEN = (
    "1",
    "2",
    "3",
    "4",
    "5",
    "7",
    "8",
    "2.5",
    "0x10",
    "on",
    "off",
    "",
    "3; 4; 5",
    "5 every 0.2 s then 0",
    "on 0.3 s",
    "= D02",
    "x",
    "-1",
)
ROUTINE = """name = "There and back"
device = "D01"
on_failure = "Safe"
[[step]]
write = { "Level 0" = 5 }
[[step]]
keep = { "Level 3" = 1 }
every_s = 0.2
safe = 0
[[step]]
ask = "Go on?"
[[step]]
wait = "[Level 0] > 4"
within_s = 2
"""
BURSTS = (
    ("w", "4", "Enter"),
    ("u", "w", "4", "1", "Enter"),
    ("w", "Enter", "Enter"),
    ("W", "Enter", "Enter", "Enter"),
    ("W", "Down", "Down", "Enter", "y"),
    ("W", "End", "Enter", "y", "y"),
    ("S", "w", "y", "Enter"),
    ("K", "Enter", "Enter"),
    ("H", "Enter", "Enter", "X"),
    ("u", "u", "w", "7", "Enter", "y", "e", "s", "Enter"),
)
PASTED = ("w 61\ron\r", "x \x1b[201~ u", "w5\r", "on 0.3 s\r\r", "uw4\r")
FOUND = ("one cycle", "switch", "reconnect", "theme", "lanes", "reset", "ask", "find", "copy", "mark")
CAPTURES = ("night.jsonl", "night.pcapng", "torn.pcapng", "site.toml", "none.jsonl", "site.kanaleto/tape")
WIRE_KEYS = (
    "e", "[", "]", "v", "i", "+", "-", "y", "Tab", "Enter", "a", "f", "d", "s", "z", "Home", "End", "NPage", "PPage",
    "Up", "Down", "Escape",
)  # fmt: skip
ROUTED = (
    " units=40 there=1", " units=1-3", "access=write", "units=", " from=D01/* unit_id=50 at=\"holding 0\"",
    " from=\"D01/Level 0..Level 2\" at=\"holding 10\"", " from=D01/Flow to=D02/Flow", "nonsense", " to=Line\\ 1", "",
)  # fmt: skip
"""Typed about routes, passes and composed devices. No pass is sound: what it writes would not be a person's."""
