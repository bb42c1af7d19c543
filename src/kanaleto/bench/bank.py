"""The memory of one simulated table: words or bits, which addresses exist, and which a master may write."""


class Bank:
    """Addresses `first`…`last`. Each item takes 2 bytes (registers) or 1 (bits); flags tell what exists and what may be
    written."""

    def __init__(self, first: int, last: int, item_bytes: int) -> None:
        self._first = first
        self._item = item_bytes
        self._data = bytearray((last - first + 1) * item_bytes)
        self._exists = bytearray(last - first + 1)
        self._writable = bytearray(last - first + 1)

    @property
    def memory(self) -> bytearray:
        """For whoever writes items that exist by itself; it stays the same object."""
        return self._data

    def offset_of(self, address: int) -> int:
        """Where an item begins in the memory."""
        return (address - self._first) * self._item

    def add(self, address: int, count: int, is_writable: bool) -> None:
        """Let addresses exist."""
        start = address - self._first
        self._exists[start : start + count] = b"\1" * count
        if is_writable:
            self._writable[start : start + count] = b"\1" * count

    def _is_set(self, flags: bytearray, address: int, count: int) -> bool:
        start = address - self._first
        return start >= 0 and start + count <= len(flags) and flags.find(0, start, start + count) < 0

    def has(self, address: int, count: int) -> bool:
        return self._is_set(self._exists, address, count)

    def may_write(self, address: int, count: int) -> bool:
        return self._is_set(self._writable, address, count)

    def copy_from(self, other: "Bank") -> None:
        """What stands there at addresses that are here too stands here."""
        first = max(self._first, other._first)
        last = min(self._first + len(self._exists), other._first + len(other._exists))
        for address in range(first, last):
            if self.has(address, 1) and other.has(address, 1):
                self.put(address, other.get(address, 1))

    def state(self) -> tuple[int, str]:
        """Its first address, and all that stands there as hexadecimal digits."""
        return self._first, self._data.hex()

    def recall(self, first: int, text: str) -> None:
        """What stood there once, at addresses that are here. Raises ValueError."""
        data = bytes.fromhex(text)
        for at in range(len(data) // self._item):
            if self.has(first + at, 1):
                self.put(first + at, data[at * self._item : (at + 1) * self._item])

    def get(self, address: int, count: int) -> bytes:
        """Bytes of items that exist."""
        start = (address - self._first) * self._item
        return bytes(self._data[start : start + count * self._item])

    def get_with_zeros(self, address: int, count: int) -> bytes:
        """Bytes of any items; those that do not exist are 0."""
        return b"".join(
            self.get(at, 1) if self.has(at, 1) else bytes(self._item) for at in range(address, address + count)
        )

    def put(self, address: int, data: bytes) -> None:
        """Set items that exist."""
        start = (address - self._first) * self._item
        self._data[start : start + len(data)] = data
