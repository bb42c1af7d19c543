"""A record in a database: SQLite in a file, or PostgreSQL by its URL. One writer; whoever asks has connections of his
own. Rows are handed to the driver as tuples, many at a time."""

import os
import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Table, create_engine, delete, event, func, insert, select, update
from sqlalchemy.exc import ArgumentError, DatabaseError, IntegrityError, NoSuchModuleError, OperationalError
from sqlalchemy.exc import SQLAlchemyError as StoreError

from kanaleto.files.beside import place_of, require_own_database
from kanaleto.history import schema
from kanaleto.history.pieces import ROWS as PIECE_ROWS
from kanaleto.history.pieces import Summing
from kanaleto.history.schema import NewerStore, bring_up
from kanaleto.history.sound import why_unsound
from kanaleto.history.store_error import CannotRecord

__all__ = ["CannotRecord", "Store", "StoreError", "open_engine", "shown_url", "url_of"]

_MOST_REMEMBERED = 200_000
_MOST_CHECKED_BYTES = 64_000_000
_DAY_US = 86_400_000_000
_PATIENCE_S = 5  # with a file that another holds, with a server that takes a connection and says nothing
_PIECES_AT_ONCE = 20  # of a tenth of a second
_SAMPLE = [column.name for column in schema.sample.columns]
SampleRow = tuple[int, int, int, int, int, float | None, bytes | None, int, int | None]
"""Series, at, span, kind, quality, value, words, definition, reason."""


def url_of(text: str) -> str:
    """A file's path, or a URL, as a URL of SQLAlchemy. A home folder that nobody has stays as it was typed, as a shell
    leaves it."""
    if "://" not in text:
        return f"sqlite:///{Path(os.path.expanduser(text)).absolute()}"
    scheme, rest = text.split("://", 1)
    return f"postgresql+psycopg://{rest}" if scheme in ("postgresql", "postgres") else text


def path_of(url: str) -> Path | None:
    """The file of a SQLite URL."""
    return Path(url.removeprefix("sqlite:///")) if url.startswith("sqlite:///") else None


def shown_url(url: str) -> str:
    """A URL without its password; a file as its path."""
    path = path_of(url)
    if path is not None:
        return str(path)
    from sqlalchemy import make_url

    try:
        return make_url(url).render_as_string(hide_password=True).replace("postgresql+psycopg://", "postgresql://")
    except ArgumentError:
        return "that URL"


def open_engine(url: str, is_writer: bool) -> Engine:
    """Raises CannotRecord."""
    path = path_of(url)
    if path is not None and not path.parent.is_dir():
        raise CannotRecord(f"the folder {path.parent} does not exist; make it first, or name another file")
    if path is not None and path.is_dir():
        raise CannotRecord(f"{path} is a folder; name a file")
    if path is not None and not is_writer and not path.exists():
        raise CannotRecord(f"there is no record at {path}")
    try:
        patience = {"timeout": _PATIENCE_S} if path is not None else {"connect_timeout": _PATIENCE_S}
        engine = create_engine(url, connect_args=patience)
    except (ArgumentError, NoSuchModuleError, ValueError):
        raise CannotRecord(
            f"{shown_url(url)!r} is no store: name a file, or a URL as postgresql://USER@HOST/DATABASE"
        ) from None
    except ModuleNotFoundError as error:
        raise CannotRecord(
            f"{shown_url(url)} needs the package {error.name}, which is not here: pip install 'kanaleto[postgresql]'"
        ) from None
    except ImportError as error:
        raise CannotRecord(f"the driver of {shown_url(url)} cannot be used: {str(error).splitlines()[0]}") from None
    if path is not None:
        event.listen(engine, "connect", _set_up_writer if is_writer else _set_up_reader)
    return engine


def _set_up_writer(connection: sqlite3.Connection, record: object) -> None:
    connection.execute("PRAGMA auto_vacuum = INCREMENTAL")
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = NORMAL")


def _set_up_reader(connection: sqlite3.Connection, record: object) -> None:
    connection.execute("PRAGMA query_only = ON")


def sentence(error: Exception, url: str) -> CannotRecord:
    """What a fault of a database means."""
    origin = getattr(error, "orig", None) or error
    text = str(origin).strip().splitlines()[0] if str(origin).strip() else type(origin).__name__
    is_damaged = path_of(url) is not None and (
        isinstance(error, DatabaseError) and not isinstance(error, OperationalError)
    )
    what = "is damaged, or no record" if is_damaged else "cannot be used"
    return CannotRecord(f"{shown_url(url)} {what}: {text}", is_damaged=is_damaged)


class Store:
    """For its one writer. Raises CannotRecord when it cannot be begun; StoreError as it comes afterwards."""

    def __init__(self, url: str) -> None:
        self.url, self.name = url, shown_url(url)
        self._place: tuple[int, int] | None = None
        self._lock = self._taken(path_of(url))
        try:
            self.engine = open_engine(url, is_writer=True)
            try:
                with self.engine.begin() as connection:
                    bring_up(connection, self.name)
                self.connection = self.engine.connect()
                path = path_of(url)
                self._place = place_of(path) if path is not None else None
            except NewerStore as error:
                raise CannotRecord(str(error)) from None
            except StoreError as error:
                raise sentence(error, url) from None
        except BaseException:
            self._release()
            raise
        self._ids: dict[tuple[str, tuple[str, ...]], int] = {}
        self._summing, self._put_since = Summing(), 0
        marks = "%s" if self.engine.dialect.paramstyle in ("format", "pyformat") else "?"
        names = ", ".join(f'"{name}"' for name in _SAMPLE)
        self._put = f"INSERT INTO sample ({names}) VALUES ({', '.join([marks] * len(_SAMPLE))}) ON CONFLICT DO NOTHING"

    @property
    def is_there(self) -> bool:
        """Whether what is written here can be found again: nobody has deleted or moved its file."""
        path = path_of(self.url)
        return path is None or place_of(path) == self._place

    def _taken(self, path: Path | None) -> Any:
        """Nobody else writes a file of samples."""
        if path is None:
            return None
        if not path.parent.is_dir():
            raise CannotRecord(f"the folder {path.parent} does not exist; make it first, or name another file")
        from filelock import FileLock, Timeout

        try:
            require_own_database(path)
        except OSError as error:
            raise CannotRecord(error.strerror or str(error)) from None
        lock = FileLock(path.with_name(f"{path.name}.lock"))
        try:
            lock.acquire(timeout=0)
        except Timeout:
            raise CannotRecord(f"somebody else records to {path} now", is_taken=True) from None
        except OSError as error:
            raise CannotRecord(f"{path} cannot be written: {error.strerror or error}") from None
        damage = why_unsound(path, _MOST_CHECKED_BYTES)
        if damage:
            lock.release()
            with suppress(OSError):
                Path(lock.lock_file).unlink(missing_ok=True)
            raise CannotRecord(f"{self.name} is damaged, or no record: {damage}", is_damaged=True)
        return lock

    def _release(self) -> None:
        if self._lock is not None:
            self._lock.release()
            with suppress(OSError):
                Path(self._lock.lock_file).unlink(missing_ok=True)

    # What rows refer to

    def _id(self, table: Table, key: tuple[str, ...], values: dict[str, str], where: Sequence[str]) -> int:
        known = self._ids.get((table.name, key))
        if known is not None:
            return known
        wanted = select(table.c.id).where(*(table.c[name] == values[name] for name in where))
        found = self.connection.execute(wanted).scalar()
        if found is None:
            try:
                found = self._inserted(table, values)
            except IntegrityError:  # another writer of the same database was first
                self.connection.rollback()
                found = self.connection.execute(wanted).scalar()
        number = int(found or 0)
        if len(self._ids) >= _MOST_REMEMBERED:
            self._ids.clear()
        self._ids[table.name, key] = number
        return number

    def series(self, site: str, device: str, point: str) -> int:
        values = {"site": site, "device": device, "point": point}
        return self._id(schema.series, (site, device, point), values, ("site", "device", "point"))

    def definition(self, text: str, fingerprint: str) -> int:
        return self._id(schema.definition, (text,), {"told": text, "fingerprint": fingerprint}, ("told",))

    def reason(self, text: str) -> int | None:
        return self._id(schema.reason, (text,), {"text": text}, ("text",)) if text else None

    def line(self, site: str, name: str, link: str, origin: str) -> int:
        values = {"site": site, "name": name, "link": link, "origin": origin}
        return self._id(schema.line, (site, name, link, origin), values, tuple(values))

    def rename(self, site: str, old: tuple[str, str], new: tuple[str, str]) -> int | None:
        """A series goes on under another name, with what was recorded under that one already; which it is. None where
        there is none."""
        columns, samples = schema.series.c, schema.sample
        numbers = []
        for device, point in (old, new):
            wanted = select(columns.id).where(columns.site == site, columns.device == device, columns.point == point)
            numbers.append(self.connection.execute(wanted).scalar())
        from_id, to_id = numbers
        if from_id is None:
            return to_id
        if to_id is not None:
            self.connection.execute(update(samples).where(samples.c.series == to_id).values(series=from_id))
            self.connection.execute(delete(schema.series).where(columns.id == to_id))
            self._summing.forget(self.connection, schema.piece.c.series.in_((from_id, to_id)))
        self.connection.execute(update(schema.series).where(columns.id == from_id).values(device=new[0], point=new[1]))
        self.connection.commit()
        self._ids = {key: number for key, number in self._ids.items() if key[0] != "series"}
        return int(from_id)

    def adopt(self, site: str) -> None:
        """What was recorded under another name of the site goes on under this one. For a store of one site alone."""
        series, lines = schema.series, schema.line
        known = [name for (name,) in self.connection.execute(select(series.c.site).distinct()).fetchall()]
        if len(known) == 1 and known[0] != site:
            for table in (series, lines, schema.run):
                self.connection.execute(update(table).values(site=site))
        self.connection.commit()

    def last_lived(self, site: str) -> int:
        """When a site was recorded last; 0 where it was not."""
        spans, runs = schema.span.c, schema.run.c
        wanted = select(func.max(spans.last)).join(schema.run, runs.id == spans.run).where(runs.site == site)
        return int(self.connection.execute(wanted).scalar() or 0)

    # Runs and spans

    def begin_run(self, site: str, program: str, who: str, host: str, at_us: int) -> int:
        values = {"site": site, "program": program, "who": who, "host": host, "begun": at_us}
        return self._inserted(schema.run, values)

    def end_run(self, number: int, at_us: int) -> None:
        self.connection.execute(update(schema.run).where(schema.run.c.id == number).values(ended=at_us))

    def begin_span(self, run: int, at_us: int) -> int:
        values = {"run": run, "begun": at_us, "last": at_us}
        number = self._inserted(schema.span, values)
        self._summing.begin_span(self.connection, at_us)
        self.connection.commit()
        return number

    def _inserted(self, table: Table, values: dict[str, Any]) -> int:
        """Its number; on disk at once, so that rows may refer to it whatever becomes of others."""
        key = self.connection.execute(insert(table).values(**values)).inserted_primary_key
        self.connection.commit()
        return int(key[0]) if key is not None else 0

    def extend_span(self, number: int, at_us: int) -> None:
        self.connection.execute(update(schema.span).where(schema.span.c.id == number).values(last=at_us))

    # Rows

    def put(self, rows: list[SampleRow]) -> None:
        if rows:
            self.connection.exec_driver_sql(self._put, rows)
            self._put_since += len(rows)
            self._summing.note((row[0], row[1]) for row in rows)

    def _sum_up(self) -> None:
        """Summaries of what was put and committed: as many as came, and some of what has none yet from before."""
        put, self._put_since = self._put_since, 0
        if self._summing.sum_up(self.connection, _PIECES_AT_ONCE + put // PIECE_ROWS):
            self.connection.commit()

    def put_minutes(self, rows: list[dict[str, Any]]) -> None:
        if rows:
            self.connection.execute(insert(schema.minute), rows)

    def commit(self) -> None:
        self.connection.commit()
        self._sum_up()

    def roll_back(self) -> None:
        """What was not committed is gone; so is what was known of it."""
        with suppress(StoreError):
            self.connection.rollback()
        self._ids.clear()
        self._summing.doubt()

    def reconnect(self) -> None:
        """Another connection, where the old one is of no use any more."""
        with suppress(StoreError):
            self.connection.close()
        self._ids.clear()
        self.connection = self.engine.connect()

    # Bounds

    def prune(self, now_us: int, days: int, most_bytes: int) -> int:
        """Let go of what is older than so many days, and of the oldest where it has grown too large; how many samples
        that were."""
        gone = self._delete_before(now_us - days * _DAY_US)
        while path_of(self.url) is not None and self._size() > most_bytes:
            first = self.connection.execute(select(func.min(schema.span.c.begun))).scalar()
            last = self.connection.execute(select(func.max(schema.span.c.last))).scalar()
            if first is None or last is None or last - first < 10:
                break
            gone += self._delete_before(first + (last - first) // 10)
            self.commit()
            raw = self.connection.connection.cursor()
            raw.execute("PRAGMA incremental_vacuum")
            raw.fetchall()  # it works as it is read
        self.commit()
        return gone

    def _delete_before(self, at_us: int) -> int:
        gone = 0
        for (number,) in self.connection.execute(select(schema.series.c.id)).fetchall():
            before = (schema.sample.c.series == number, schema.sample.c.at < at_us)
            gone += self.connection.execute(delete(schema.sample).where(*before)).rowcount
            self.commit()
        spans = schema.span
        self._summing.forget(self.connection, schema.piece.c.first < at_us)
        self.connection.execute(delete(schema.minute).where(schema.minute.c.at < at_us))
        self.connection.execute(delete(spans).where(spans.c.last < at_us))
        self.connection.execute(update(spans).where(spans.c.begun < at_us).values(begun=at_us))
        self.commit()
        return gone

    def _size(self) -> int:
        pages, free, size = (
            int(self.connection.exec_driver_sql(f"PRAGMA {name}").scalar() or 0)
            for name in ("page_count", "freelist_count", "page_size")
        )
        return (pages - free) * size

    def close(self) -> None:
        with suppress(StoreError):
            self.connection.close()
            self.engine.dispose()
        self._release()
