"""What goes into a map, and out of it: tables that are imported, another map for a device, files, the clipboard."""

from kanaleto.planning.plan import Place
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line
from kanaleto.tui.map import asking
from kanaleto.tui.map.anothermap import AnotherMapPane
from kanaleto.tui.map.export import rows_as_text
from kanaleto.tui.map.importing import ImportPane
from kanaleto.tui.map.ruler import RulerRows
from kanaleto.tui.shared.view import View
from kanaleto.tui.write.points import ask_writable, write_points


class InAndOut(View):
    """What the view is made of; subclasses say which device is looked at."""

    importing: ImportPane
    over: ImportPane | AnotherMapPane
    """What stands instead of the ruler."""
    ruler_rows: RulerRows

    @property
    def device(self) -> Device | None:
        raise NotImplementedError

    @property
    def line(self) -> Line | None:
        raise NotImplementedError

    def want(self, link: Link, unit_id: int) -> None:
        """Look at that device as soon as it is there."""
        raise NotImplementedError

    @property
    def place(self) -> Place | None:
        raise NotImplementedError

    def action_write(self) -> None:
        device = self.device
        marked = [(device.name, point.name) for point in device.points] if device is not None else []
        write_points(self.context, [one for one in marked if one[1] in self.ruler_rows.marked], self.place)

    def action_writable(self) -> None:
        device = self.device
        marked = [(device.name, point.name) for point in device.points] if device is not None else []
        ask_writable(self.context, [one for one in marked if one[1] in self.ruler_rows.marked], self.place)

    def action_import(self) -> None:
        device, line = self.device, self.line
        if line is None or device is None:
            self.context.tell("find or add a device first (1); there i imports a map for the unit in the fields")
        else:
            self.ask_import(line.link, device.unit_id)

    def ask_import(self, link: Link, unit_id: int) -> None:
        """Ask for a file, and show how its columns are understood."""
        self.importing.ask(link, unit_id)

    def action_another_map(self) -> None:
        if self.device is None or not self.device.points:
            self.context.tell("a device without points has nothing to be found again: import a map (i)")
        else:
            self.query_one(AnotherMapPane).ask(self.device)

    def show_other(self) -> None:
        self._show(self.query_one(AnotherMapPane))

    def show_import(self) -> None:
        self._show(self.importing)

    def _show(self, pane: "ImportPane | AnotherMapPane") -> None:
        """Instead of the ruler."""
        self.over.display, self.over, pane.display = False, pane, True
        self.add_class("-importing")
        self.focus_rows()
        self.context.redraw()

    def end_import(self) -> None:
        self.over.display = False
        self.remove_class("-importing")
        self.focus_rows()
        self.context.redraw()

    def show_device(self, link: Link, unit_id: int) -> None:
        """Look at that one, as soon as it is there."""
        self.want(link, unit_id)
        self.end_import()

    def take_paste(self, text: str) -> bool:
        """A table from the clipboard."""
        if self.line is None or self.device is None:
            return False
        self.importing.take_pasted(text, self.line.link, self.device)
        return True

    def action_clipboard(self) -> None:
        text = rows_as_text(self.snapshot, self.ruler_rows.places, self.ruler_rows.marked)
        self.app.copy_to_clipboard(text)
        self.context.tell(f"{text.count(chr(10)) - 1} rows copied to the clipboard, with words and values")

    def action_export(self) -> None:
        device, line = self.device, self.line
        if device is None or line is None:
            self.context.tell("there is no device to export")
        else:
            asking.ask_export(self.context, device, line)
