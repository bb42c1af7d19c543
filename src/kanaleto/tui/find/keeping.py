"""What was found becomes part of the site: devices, points, settings. A mix-in of the view Find."""

from typing import TYPE_CHECKING, cast

from kanaleto.site.adding import NewPoint, add_device, line_of, set_link
from kanaleto.site.workspace import CannotEdit
from kanaleto.survey.draft import rows_of_overhearing, rows_of_runs
from kanaleto.wire.codes import Table

if TYPE_CHECKING:
    from kanaleto.tui.find.view import FindView


class Keeping:
    """Needs what FindView has: the place, the unit in hand, the scratch reading."""

    @property
    def _view(self) -> "FindView":
        return cast("FindView", self)

    def action_add(self) -> None:
        if self._view.words.has_focus:
            self._keep_points()
            return
        self._add([])

    def _add(self, points: list[NewPoint], unit_id: int | None = None) -> None:
        place = self._view.place
        if place is None or place.link is None:
            self._view.kanaleto.tell("choose a place and a unit first")
            return
        unit = unit_id if unit_id is not None else self._view.unit_in_hand()
        link = place.link
        name = ""
        unit_found = place.units.found.get(unit) if place.units is not None else None
        if unit_found is not None and unit_found.identity is not None:
            objects = unit_found.identity.objects
            name = objects.get(5) or objects.get(4) or objects.get(1) or ""
        holder, site = self._view.kanaleto.holder, self._view.kanaleto.site
        try:
            after = add_device(holder.workspace(), site, link, unit, name.strip()[:40], points)
        except (CannotEdit, OSError) as error:
            self._view.kanaleto.tell(str(error))
            return
        self._view.kanaleto.take_site(after)
        count = f"{len(points)} point{'s' if len(points) != 1 else ''}" if points else "it"
        self._view.kanaleto.tell(f"added {count} of unit {unit} to {after.name}; 3 shows it live, ctrl+z takes it back")

    def action_draft(self) -> None:
        place, unit = self._view.place, self._view.unit_in_hand()
        if place is None:
            return
        points: list[NewPoint] = []
        survey = place.registers.get(unit)
        if survey is not None:
            points = [
                NewPoint(row.name, row.table, row.address, (("note", row.note),))
                for table in survey.tables
                for row in rows_of_runs(table.table, table.runs, "", survey.constant.get(table.table, frozenset()))
            ]
        elif place.listener is not None:
            points = [
                NewPoint(row.name, row.table, row.address, (("note", row.note),)) for row in rows_of_overhearing(place.listener.heard, unit)
            ]
        if not points:
            self._view.kanaleto.tell("nothing is known of its registers yet: e looks for them")
            return
        self._add(points, unit)

    def action_keep_settings(self) -> None:
        place, site = self._view.place, self._view.kanaleto.site
        line = line_of(site, place.link) if place is not None and place.link is not None else None
        if place is None or line is None or place.link is None or line.link == place.link:
            self._view.kanaleto.tell("there are no other settings to keep for a line of this site")
            return
        try:
            after = set_link(self._view.kanaleto.holder.workspace(), line, place.link)
        except (CannotEdit, OSError) as error:
            self._view.kanaleto.tell(str(error))
            return
        self._view.kanaleto.take_site(after)
        self._view.kanaleto.tell(
            f"{line.name} now has {place.settings.found.title if place.settings and place.settings.found else 'these settings'}"
        )

    def _keep_points(self) -> None:
        reader, row = self._view.desk.scratch, self._view.words.current
        if reader is None or row is None:
            self._view.kanaleto.tell("nothing is read there now, so there is nothing to keep")
            return
        question, reading = reader.state.question, self._view.form.reading
        addresses = sorted(self._view.words.chosen) or [row.address]
        type_text, _, order = reading.partition(" ")
        cells = () if question.table.is_bits else (("type", type_text), ("order", order))
        title = {Table.HOLDING: "Holding", Table.INPUT: "Input", Table.COIL: "Coil", Table.DISCRETE: "Input bit"}[question.table]
        self._add([NewPoint(f"{title} {address}", question.table, address, cells) for address in addresses], question.unit_id)
        self._view.words.chosen.clear()
