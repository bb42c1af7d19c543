"""From points that are chosen in a view to the line that writes them."""

from collections.abc import Sequence
from concurrent.futures import Future

from kanaleto.editing.news import Done
from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.tui.shared.context import Context


def _chosen(context: Context, marked: Sequence[Identity], current: AnyPlace | None) -> list[AnyPlace]:
    """Those that are marked, or the one that the cursor is on, as the latest plan has them."""
    snapshot = context.snapshot
    places = [place for one in marked if (place := snapshot.place_of(one)) is not None]
    if not places and current is not None:
        place = snapshot.place_of(current.identity)
        places = [place] if place is not None else []
    return places


def ask_writable(context: Context, marked: Sequence[Identity], current: AnyPlace | None) -> None:
    """Make points writable that their map says are only read; asked once for all of them."""
    from kanaleto.editing.pointedit import make_writable

    chosen: dict[str, list[str]] = {}
    for place in _chosen(context, marked, current):
        if isinstance(place, Place) and place.point.table.is_writable and not place.point.access.is_written:
            chosen.setdefault(place.device.name, []).append(place.point.name)
    count = sum(len(names) for names in chosen.values())
    if not count:
        context.tell("nothing here is read-only and could be written: only coils and holding registers can")
        return
    named = next(iter(chosen.values()))[0] if count == 1 else f"{count} points"
    of = next(iter(chosen)) if len(chosen) == 1 else f"{len(chosen)} devices"
    opened = context.door.opened

    def take(text: str) -> "Future[Done] | None":
        if text.strip().lower() in ("y", "yes"):
            return context.edit(make_writable(chosen), opened)
        context.tell("left as it is")
        return None

    context.ask(f"make {named} of {of} writable (access rw)? y does, anything else leaves it", "", take)


def write_points(context: Context, marked: Sequence[Identity], current: AnyPlace | None) -> None:
    """Those that are marked, or the one that the cursor is on."""
    from kanaleto.control.preview import spot_of  # which is loaded by now

    places = _chosen(context, marked, current)
    wrong = next((place for place in places if not isinstance(place, Place)), None)
    if wrong is not None:
        context.tell(f"{wrong.identity[1]} is made of other points: nobody can write it")
    elif not places:
        context.tell("put the cursor on a point: it is what is written")
    else:
        context.write([spot_of(place) for place in places if isinstance(place, Place)])
