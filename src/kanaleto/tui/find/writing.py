"""Writing from a scratch reading: registers without a map."""

from kanaleto.finding.desk import Desk
from kanaleto.tui.scratch.form import ScratchForm, codec_of
from kanaleto.tui.scratch.rows import ScratchRows
from kanaleto.tui.shared.view import View
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table

_BOOL = Codec(ValueType(Kind.BOOL), ByteOrder.ABCD)


class ScratchWrites(View):
    """The view Find is one of these."""

    desk: Desk
    form: ScratchForm
    words: ScratchRows

    def action_write(self) -> None:
        from kanaleto.control.preview import bare_spot  # which is loaded by now

        reader, row = self.desk.scratch, self.words.current
        if reader is None or row is None or not reader.state.values:
            self.context.tell("read something first (r), and put the cursor on the word to write")
            return
        question, link = reader.state.question, reader.link
        table = question.table
        if not table.is_writable:
            self.context.tell(f"nobody can write {table.title}")
            return
        codec = _BOOL if table.is_bits else codec_of(self.form.reading)
        values = reader.state.values[row.number : row.number + codec.registers]
        words = bytes((values[0],)) if table is Table.COIL else b"".join(value.to_bytes(2) for value in values)
        is_whole = table.is_bits or len(values) == codec.registers
        done = self.context.engine.do(lambda session: session.host(link))

        def opened() -> None:
            error = done.exception()
            if error is not None:
                self.context.tell(str(error))
                return
            seen = words if is_whole else None
            self.context.write([bare_spot(done.result(), question.unit_id, table, row.address, codec, seen)])

        done.add_done_callback(lambda _: self.context.later(opened))
