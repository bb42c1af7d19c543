"""What a LINK text says after its scheme, read with every fault in one sentence that says what would be right."""

from msgspec import Struct

from kanaleto.site.filefaults import suggestion
from kanaleto.values.digits import whole
from kanaleto.wire.ascii import may_end


class Written(Struct, frozen=True):
    """`scheme://place?options`. All that reads raises ValueError."""

    text: str
    scheme: str
    place: str
    options: dict[str, str]

    def only(self, *allowed: str) -> None:
        """Refuses every other key."""
        for key in self.options:
            if key not in allowed:
                raise ValueError(
                    f"link {self.text!r}: {key!r} is not known here{suggestion(key, list(allowed))}; "
                    f"there are {', '.join(allowed)}"
                )

    def host_and_port(self, default_port: int | None = None) -> tuple[str, int]:
        place = self.place.rstrip("/")
        if place.startswith("["):
            host, _, tail = place[1:].partition("]")
            port = tail.removeprefix(":")
        else:
            host, _, port = place.partition(":")
        if not host or "/" in host or ":" in port:
            raise ValueError(f"link {self.text!r} names no host; write tcp://192.0.2.7 or tcp://[2001:db8::7]:502")
        if port:
            return host, self._number("port", port, 1, 65535)
        if default_port is None:
            raise ValueError(f"link {self.text!r} needs a port, as in {self.text.strip().rstrip('/')}:4001")
        return host, default_port

    def number(self, key: str, default: int, low: int, high: int) -> int:
        return self._number(key, self.options.get(key, str(default)), low, high)

    def _number(self, key: str, value: str, low: int, high: int) -> int:
        if not value.isdecimal() or not low <= int(value) <= high:
            raise ValueError(f"link {self.text!r}: {key} {value!r} is not a whole number in {low}…{high}")
        return int(value)

    def is_on(self, key: str, off: str, on: str) -> bool:
        """Off where it is not named."""
        value = self.options.get(key, off).lower()
        if value not in (off, on):
            raise ValueError(f"link {self.text!r}: {key} is {on} or {off}, not {self.options[key]!r}")
        return value == on

    def path(self, key: str) -> str | None:
        return unquote(self.options[key]) if self.options.get(key) else None

    def delimiter(self) -> int:
        given = self.options.get("delimiter", "0x0A")
        try:
            delimiter = whole(given)
        except ValueError:
            delimiter = -1
        if not may_end(delimiter):
            raise ValueError(
                f"link {self.text!r}: delimiter {given!r} is not the code of a character that can end a frame, "
                "as 0x0A or 59"
            )
        return delimiter

    def milliseconds(self, key: str) -> float | None:
        """None where it is not named."""
        value = self.options.get(key)
        if not value:
            return None
        try:
            number = float(value)
        except ValueError:
            number = -1.0
        if not 0 <= number <= 1000:
            raise ValueError(f"link {self.text!r}: {key} {value!r} is not a number in 0…1000")
        return number


def unquote(text: str) -> str:
    """%20 and the like as what they stand for."""
    if "%" not in text:
        return text
    from urllib.parse import unquote as unquoted

    return unquoted(text)
