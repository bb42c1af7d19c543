"""What of Find is in sight where there is little room."""

_WIDE, _MIDDLING = 130, 92
LOW = 30  # few rows are shared out by turns: the field, or the scratch reading


def classes(
    size: tuple[int, int], in_scratch: bool, in_found: bool, in_list: bool, has_field: bool, is_choosing: bool,
    is_unused: bool,
) -> dict[str, bool]:  # fmt: skip
    """Style classes by what has the keys: the scratch reading, what was found, or the list; `is_unused`: no place is
    chosen and nothing read."""
    width, height = size
    return {
        "-folded": width < _WIDE,
        "-narrow": width < _MIDDLING,
        "-show-found": in_found,
        "-show-middle": not in_list or (has_field and not is_choosing),
        "-no-scratch": (is_unused and not in_scratch) or (height < LOW and has_field and not in_scratch),
    }
