"""From points that are chosen in a view to the line that writes them."""

from collections.abc import Sequence

from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.tui.shared.context import Context


def write_points(context: Context, marked: Sequence[Identity], current: AnyPlace | None) -> None:
    """Those that are marked, or the one that the cursor is on."""
    from kanaleto.control.preview import spot_of  # which is loaded by now

    snapshot = context.snapshot
    places = [place for one in marked if (place := snapshot.place_of(one)) is not None]
    if not places and current is not None:
        # the same point in the latest plan
        place = snapshot.place_of(current.identity)
        places = [place] if place is not None else []
    wrong = next((place for place in places if not isinstance(place, Place)), None)
    if wrong is not None:
        context.tell(f"{wrong.identity[1]} is made of other points: nobody can write it")
    elif not places:
        context.tell("put the cursor on a point: it is what is written")
    else:
        context.write([spot_of(place) for place in places if isinstance(place, Place)])
