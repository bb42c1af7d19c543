"""Edits of a device: its settings, its name, its line, a copy of it, and taking it away. Each addresses it by its name,
and looks at what stands there now."""

from collections.abc import Callable, Mapping

from kanaleto.editing.following import follow_device
from kanaleto.editing.pointedit import free_name
from kanaleto.editing.workingcopy import CannotEdit, Clash, Draft, Edit
from kanaleto.files.devicetext import Said, said_of, with_device_changed, with_device_copied, without_device
from kanaleto.files.maprows import assignments, split_assignments
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Site

LINE = "line"
"""The line that a device is on, among its settings: naming another moves it."""


def _whole(text: str) -> object:
    return int(text)


def _seconds(text: str) -> object:
    return float(text.removesuffix("s").strip())


def _period(text: str) -> object:
    return "demand" if text.strip().lower() == "demand" else _seconds(text)


def _yes(text: str) -> object:
    word = text.strip().lower()
    if word not in ("yes", "no", "true", "false"):
        raise ValueError
    return word in ("yes", "true")


def _codes(text: str) -> object:
    return [int(word) for word in text.replace(",", " ").split()]


def _ranges(text: str) -> object:
    return [part.strip() for part in text.split(";") if part.strip()]


SETTINGS: dict[str, tuple[Callable[[str], object], str]] = {
    "name": (str, "a text"),
    "unit_id": (_whole, "a whole number"),
    LINE: (str, "the name of a line"),
    "map": (str, "a file beside the site file"),
    "numbering": (str, "protocol, one or reference"),
    "order": (str, "ABCD, CDAB, BADC or DCBA, or all eight letters for 64 bits"),
    "period_s": (_period, "seconds, or demand"),
    "timeout_s": (_seconds, "seconds"),
    "retries": (_whole, "a whole number"),
    "max_registers": (_whole, "a whole number"),
    "max_bits": (_whole, "a whole number"),
    "max_write_registers": (_whole, "a whole number"),
    "max_write_bits": (_whole, "a whole number"),
    "max_gap": (_whole, "a whole number"),
    "max_points": (_whole, "a whole number"),
    "functions": (_codes, "function codes, as in 3 4 6"),
    "write_with": (str, "auto, single or multiple"),
    "never_read": (_ranges, "ranges, as in holding 40-47; input 3"),
    "watchdog_s": (_seconds, "seconds"),
    "enabled": (_yes, "yes or no"),
    "enabled_by": (str, "the name of one of its points"),
    "pause_after_connect_s": (_seconds, "seconds"),
    "pause_after_write_s": (_seconds, "seconds"),
    "baud": (_whole, "a whole number"),
    "parity": (str, "none, even or odd"),
    "stop": (_whole, "1 or 2"),
    "gaps": (str, "refuse or zero"),
    "server_id": (str, "a text"),
    "writing": (str, "unlock, confirm or never"),
    "tag": (str, "the name of one of its points"),
    "note": (str, "a text"),
}
"""Keys that one line of text can say, with how it is read; what is more stands in the site file."""


_WORDS = {
    "name": "what it is called; each once in a site", "unit_id": "0 to 255", LINE: "another line's name moves it there",
    "map": "its points", "numbering": "how its map counts addresses", "order": "of the bytes of its wide values",
    "period_s": "how often its points are read", "timeout_s": "how long an answer is waited for",
    "retries": "how often a read is asked again", "max_registers": "the most in one request",
    "max_bits": "the most coils in one request", "max_write_registers": "the most in one write",
    "max_write_bits": "the most coils in one write", "max_gap": "registers outside the map that may be read through",
    "max_points": "warned of beyond", "functions": "the codes that it knows", "write_with": "which functions write",
    "never_read": "what is never asked for", "watchdog_s": "it acts by itself when it is left alone so long",
    "enabled": "whether it is polled", "enabled_by": "it is polled while that point is on",
    "pause_after_connect_s": "before its first request", "pause_after_write_s": "before the next request",
    "baud": "as the device says, to be compared with the line", "parity": "the same", "stop": "the same",
    "gaps": "when simulated: what a register outside the map brings",
    "server_id": "when simulated: how it calls itself",
    "writing": "unlock: by the lock; confirm: each write is asked about; never",
    "tag": "the point by which it is known again",
    "note": "for whoever reads the file",
}  # fmt: skip
SETTING_WORDS = tuple((key, f"{_WORDS[key]} ({what})") for key, (_, what) in SETTINGS.items())
"""Each setting with what it says and what may stand there."""


_WANTED_TWICE = (
    "map", "max_registers", "max_bits", "max_write_registers", "max_write_bits", "functions", "never_read",
    "watchdog_s", "writing", "tag",
)  # fmt: skip


def shown_setting(value: object) -> str:
    """A value as it is typed."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ("; " if any(isinstance(one, str) for one in value) else " ").join(str(one) for one in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


def settings_text(said: Said) -> str:
    """What a device says of itself, to be changed: `name=… unit_id=…`."""
    settings = {key: said.device[key] for key in SETTINGS if key in said.device}
    settings = {
        "name": settings.pop("name", ""),
        "unit_id": settings.pop("unit_id", ""),
        LINE: said.line.get("name", ""),
        **settings,
    }
    return assignments({key: shown_setting(value) for key, value in settings.items()})


def parse_settings(text: str, said: Said) -> dict[str, object]:
    """What is to change, None for a key that is to go, since it is typed empty (`max_gap=`). What is not typed stays as
    it is. Raises ValueError."""
    typed: dict[str, str] = {}
    for word, key, value in split_assignments(text):
        if key not in SETTINGS:
            close = suggestion(key or word, list(SETTINGS)) or ", as period_s=0.5 is one"
            raise ValueError(f"{key or word} is no setting of a device{close}; ? lists them all")
        typed[key] = value
    now = {**{key: said.device[key] for key in SETTINGS if key in said.device}, LINE: said.line.get("name", "")}
    changes: dict[str, object] = {}
    for key, value in typed.items():
        if not value.strip() and key in ("name", "unit_id", LINE):
            raise ValueError(f"{key} is needed; type it, or escape leaves it as it is")
        parse, what = SETTINGS[key]
        try:
            new = parse(value.strip()) if value.strip() else None
        except (ValueError, OverflowError):
            raise ValueError(f"{key} {value!r} must be {what}") from None
        if new != now.get(key):
            changes[key] = new
    return changes


def loss_of(changes: Mapping[str, object], name: str, points: int) -> str:
    """What is lost for good with what is taken away, in words; nothing where that is little."""
    gone = [key for key in _WANTED_TWICE if key in changes and changes[key] is None]
    if not gone:
        return ""
    of_map = f", and its {points} point{'s' if points != 1 else ''}" if "map" in gone and points else ""
    return f"this takes {' and '.join(gone)} of {name} away{of_map}"


def change_device(name: str, changes: Mapping[str, object], seen: Said | None = None) -> Edit:
    """Other settings; `line` moves it, `name` renames it, wherever it is named."""

    def edit(draft: Draft) -> str:
        draft.device(name)
        if not changes:
            raise CannotEdit("nothing is to be changed")
        now = said_of(draft.text()).get(name)
        _look_for_clash(draft, name, now, seen, changes)
        keys = {key: value for key, value in changes.items() if key != LINE}
        line = str(changes.get(LINE) or "")
        if line:
            draft.line(line)
        called = str(keys.get("name") or name)
        _check_free(draft.site, called, name)
        draft.put(with_device_changed(draft.text(), name, keys, line))
        if called != name:
            follow_device(draft, name, called)
        if called != name:
            return f"rename {name} to {called}"
        return f"move {name} to {line}" if line and not keys else f"settings of {name}"

    return edit


def copy_device(name: str, unit_id: int, called: str = "") -> Edit:
    """The same device again on its line, with the same map, as another unit."""

    def edit(draft: Draft) -> str:
        draft.device(name)
        title = called or free_name(name, {device.name for _, device in draft.site.devices()})
        _check_free(draft.site, title, "")
        draft.put(with_device_copied(draft.text(), name, {"name": title, "unit_id": unit_id}))
        return f"copy {name} as {title}, unit {unit_id}"

    return edit


def delete_device(name: str, seen: Said | None = None) -> Edit:
    """Take it out of the site; its map file stays."""

    def edit(draft: Draft) -> str:
        draft.device(name)
        _look_for_clash(draft, name, said_of(draft.text()).get(name), seen, None)
        draft.put(without_device(draft.text(), name))
        return f"delete {name}"

    return edit


def free_unit(site: Site, name: str) -> int:
    """The next unit ID behind that device's which its line has not taken."""
    for line in site.lines:
        for device in line.devices:
            if device.name == name:
                taken = {other.unit_id for other in line.devices}
                return next((unit for unit in range(device.unit_id + 1, 248) if unit not in taken), 1)
    return 1


def _check_free(site: Site, called: str, but: str) -> None:
    if any(device.name == called and called != but for _, device in site.devices()):
        raise CannotEdit(f"{called!r} is a device already; give each its own name")


def _look_for_clash(
    draft: Draft, name: str, now: Said | None, seen: Said | None, changes: Mapping[str, object] | None
) -> None:
    """Whether a setting that is to be changed (any, where the device is to go) was changed by somebody since."""
    if seen is None or now is None or draft.anyway:
        return
    keys = set(changes) if changes is not None else {*seen.device, *now.device}
    other = sorted(
        key
        for key in keys - {LINE}
        if now.device.get(key) != seen.device.get(key) and now.device.get(key) != (changes or {}).get(key)
    )
    if other:
        text = ", ".join(f"{key} is now {shown_setting(now.device.get(key, 'empty'))}" for key in other[:3])
        raise Clash(f"{name} was changed meanwhile ({text})")
