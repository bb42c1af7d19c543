"""What goes into a map and out of it: tables, descriptions, the clipboard, the library; and a scale fitted to what the display shows. A
mix-in of the view Map."""

import re
from pathlib import Path
from typing import TYPE_CHECKING, cast

from textual import events

from kanaleto.output.maps import as_csv, as_json, as_workbook
from kanaleto.output.things import as_thing, rows_of_thing
from kanaleto.polling.plan import Place
from kanaleto.polling.ruler import RulerRow
from kanaleto.site.adding import device_of
from kanaleto.site.edit import write_bytes_whole
from kanaleto.site.link import Link
from kanaleto.site.mapscale import LOOP_RANGES
from kanaleto.site.model import Point
from kanaleto.site.pointedit import change_points
from kanaleto.site.sheets import CannotImport, Sheet, read_sheets, read_text_table, sheet_of_rows
from kanaleto.tui.live.rows import value_text
from kanaleto.tui.map.importing import ImportPane
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.values.fitting import fit, full_scale

if TYPE_CHECKING:
    from kanaleto.tui.map.view import MapView


class InAndOut:
    """Needs what MapView has: the device, the line, the ruler."""

    @property
    def _view(self) -> "MapView":
        return cast("MapView", self)

    def action_import(self) -> None:
        if self._view.line is None or self._view.device is None:
            self._view.kanaleto.tell("find or add a device first (1); there i imports a map for the unit in the fields")
            return
        self.ask_import(self._view.line.link, self._view.device.unit_id)

    def ask_import(self, link: Link, unit_id: int) -> None:
        """Ask for a file, and show how its columns are understood."""
        names = self._view.kanaleto.holder.library()
        known = f", or one of the library: {', '.join(names[:4])}" if names else ""
        self._view.kanaleto.query_one(Prompt).ask(
            f"import a table for unit {unit_id} of {link.place}: file{known}", "", lambda text: self._open_import(text, link, unit_id)
        )

    def _open_import(self, text: str, link: Link, unit_id: int) -> None:
        try:
            sheets = self._sheets(self._view.kanaleto.holder.map_path(text))
        except (CannotImport, ValueError) as error:
            self._view.kanaleto.tell(str(error))
            return
        self._show_import(sheets, link, unit_id)

    def _sheets(self, path: Path) -> list[Sheet]:
        """A table, or a Thing Description."""
        if path.suffix.lower() in (".json", ".jsonld"):
            try:
                rows, doubts = rows_of_thing(path.read_text(encoding="utf-8"))
            except (OSError, UnicodeDecodeError) as error:
                raise CannotImport(f"{path} cannot be read: {error}") from None
            except ValueError as error:
                raise CannotImport(f"{path} {error}") from None
            if doubts:
                self._view.kanaleto.tell(f"{len(doubts)} properties left out; {doubts[0]}")
            return [sheet_of_rows(path.name, rows)]
        return read_sheets(path)

    def _show_import(self, sheets: list[Sheet], link: Link, unit_id: int) -> None:
        device = device_of(self._view.kanaleto.site, link, unit_id)
        self._view.add_class("-importing")
        self._view.query_one(ImportPane).begin(sheets, link, unit_id, device)
        self._view.focus_rows()
        self._view.kanaleto.tick()

    def end_import(self) -> None:
        self._view.remove_class("-importing")
        self._view.focus_rows()
        self._view.kanaleto.tick()

    def show_device(self, link: Link, unit_id: int) -> None:
        """Look at that one, once the edited site is taken over."""
        self._view.wanted = (link, unit_id)

    def on_paste(self, event: events.Paste) -> None:
        """A table from the clipboard."""
        if self._view.line is None or self._view.device is None:
            return
        try:
            sheet = read_text_table(event.text)
        except CannotImport as error:
            self._view.kanaleto.tell(str(error))
            return
        self._show_import([sheet], self._view.line.link, self._view.device.unit_id)

    def action_clipboard(self) -> None:
        text = self.rows_as_text()
        self._view.app.copy_to_clipboard(text)
        self._view.kanaleto.tell(f"{text.count(chr(10)) - 1} rows copied to the clipboard, with words and values")

    def rows_as_text(self) -> str:
        """The points that are marked, or all, as a table with their words and values, for the clipboard."""
        board, now = self._view.kanaleto.engine.session.board, self._view.kanaleto.moment.now_s
        lines = ["name\ttable\taddress\ttype\twords\tvalue"]
        for row in self._view.ruler_rows.rows:
            if isinstance(row, RulerRow) and row.place is not None and row.place.point.address == row.address:
                point = row.place.point
                if self._view.ruler_rows.marked and point.name not in self._view.ruler_rows.marked:
                    continue
                reading = board.reading(row.place, now)
                cells = (
                    point.name,
                    point.table.value,
                    str(point.address),
                    str(point.codec),
                    reading.data.hex(" ", 2).upper(),
                    value_text(point, reading),
                )
                lines.append("\t".join(cells))
        return "\n".join(lines) + "\n"

    def action_export(self) -> None:
        if self._view.device is None:
            self._view.kanaleto.tell("there is no device to export")
            return
        asked = f"export the map of {self._view.device.name}: .csv, .xlsx, .json, .td.json, or a bare name for the library"
        self._view.kanaleto.query_one(Prompt).ask(asked, "", self._export)

    def _export(self, text: str) -> None:
        device, line, app = self._view.device, self._view.line, self._view.kanaleto
        if device is None or line is None or not text.strip():
            return
        path = app.holder.map_path(text)
        name = path.name.lower()
        if name.endswith(".td.json"):
            data = as_thing(device, line.link).encode()
        elif name.endswith((".csv", ".json")):
            data = (as_csv(device) if name.endswith(".csv") else as_json(device)).encode()
        elif name.endswith(".xlsx"):
            data = as_workbook(device)
        else:
            app.tell(f"{path.name} does not tell its form; end it in .csv, .xlsx, .json or .td.json")
            return
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_bytes_whole(path, data)
        except OSError as error:
            app.tell(f"{path} cannot be written: {error.strerror}")
            return
        app.tell(f"{len(device.points)} points written to {path}")

    def action_fit(self) -> None:
        """A scale through pairs of raw numbers and what the display shows."""
        place = self._view.place
        if place is None or place.point.table.is_bits or not place.point.codec.type.takes_scale:
            self._view.kanaleto.tell("put the cursor on a point that takes a scale first")
            return
        bare = place.point.codec
        reading = self._view.kanaleto.engine.session.board.reading(place, self._view.kanaleto.moment.now_s)
        raw = type(bare)(bare.type, bare.order).decode(reading.data) if reading.data else None
        start = f"{raw:g}=" if isinstance(raw, int | float) else ""
        asked = f"scale of {place.point.name}: raw=display, more pairs; or 4-20mA 6400-32000 0-250 (raw, then engineering)"
        self._view.kanaleto.query_one(Prompt).ask(asked, start, self._fit)

    def _fit(self, text: str) -> None:
        place = self._view.place
        loop = re.fullmatch(r"\s*4-20\s*mA\s+(-?[\d.]+)\s*[-–…]\s*(-?[\d.]+)\s+(-?[\d.]+)\s*[-–…]\s*(-?[\d.]+)\s*", text, re.IGNORECASE)
        if place is not None and loop is not None:
            ends = dict(zip(("raw_low", "raw_high", "eng_low", "eng_high"), loop.groups(), strict=True))
            empty = dict.fromkeys(("factor", "offset", "curve", "scale"), "")
            workspace, device, point = self._view.kanaleto.holder.workspace(), place.device, place.point
            self._view.edit(lambda: change_points(workspace, device, [point], {**empty, **ends, "signal": "4-20mA"}))
            return
        if re.match(r"\s*4-20\s*mA", text, re.IGNORECASE) and place is not None:
            self._view.kanaleto.tell(
                f"write both ranges, as in 4-20mA 6400-32000 0-250; raw ranges that fit now: {self._usual_ranges(place)}"
            )
            return
        pairs = re.findall(r"(-?[\d.,]+)\s*=\s*(-?[\d.,]+)", text)
        if place is None or not pairs:
            self._view.kanaleto.tell("write raw=display, as in 1250=12.5 4000=40")
            return
        try:
            fitted = fit([(float(raw.replace(",", ".")), float(value.replace(",", "."))) for raw, value in pairs])
        except ValueError as error:
            self._view.kanaleto.tell(str(error))
            return
        cells = {"factor": f"{fitted.factor:.12g}", "offset": f"{fitted.offset:.12g}" if fitted.offset else ""}
        cells |= dict.fromkeys(("raw_low", "raw_high", "eng_low", "eng_high", "curve", "signal", "clamp", "scale"), "")
        workspace, device, point = self._view.kanaleto.holder.workspace(), place.device, place.point
        told = fitted.text + self._likely_full_scale(point, pairs[0])
        self._view.edit(lambda: change_points(workspace, device, [point], cells, f"scale of {point.name}: {told}"))

    def _usual_ranges(self, place: Place) -> str:
        """Usual raw ranges of 4–20 mA in which the word as it stands is a current of the loop."""
        reading = self._view.kanaleto.engine.session.board.reading(place, self._view.kanaleto.moment.now_s)
        codec = place.point.codec
        raw = type(codec)(codec.type, codec.order).decode(reading.data) if reading.data else None
        fits = [f"{low}-{high}" for low, high in LOOP_RANGES if not isinstance(raw, int | float) or low <= raw <= high]
        return ", ".join(fits[:8]) or "none of the usual"

    def _likely_full_scale(self, point: Point, pair: tuple[str, str]) -> str:
        """With a range known, the raw full scale that the first pair speaks for."""
        low, high = point.limits.range_low, point.limits.range_high
        if low is None or high is None or low == high:
            return ""
        found = full_scale(float(pair[0].replace(",", ".")), float(pair[1].replace(",", ".")), low, high)
        return f"; for {low:g}…{high:g} the raw full scale is likely {found[0][0]}" if found else ""
