"""The tables of a record, and how they came to be: numbered migrations, each one step. Times are microseconds since
1970, UTC. docs/files.md describes them for those who ask their own questions."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Connection,
    Double,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    SmallInteger,
    Table,
    Text,
    UniqueConstraint,
    inspect,
    select,
    text,
)  # fmt: skip

tables = MetaData()

version = Table("kanaleto_record", tables, Column("version", Integer, nullable=False))

run = Table(
    "run", tables, Column("id", Integer, primary_key=True), Column("site", Text, nullable=False),
    Column("program", Text, nullable=False), Column("who", Text, nullable=False), Column("host", Text, nullable=False),
    Column("begun", BigInteger, nullable=False), Column("ended", BigInteger),
)  # fmt: skip
"""A recording; `ended` is null while it goes on, and where nobody knows."""

span = Table(
    "span", tables, Column("id", Integer, primary_key=True),
    Column("run", Integer, ForeignKey("run.id"), nullable=False), Column("begun", BigInteger, nullable=False),
    Column("last", BigInteger, nullable=False),
)  # fmt: skip
"""Recording lived from `begun` to `last` without a break of two seconds: between two rows of a series inside one span
nothing changed; outside nobody looked."""

series = Table(
    "series", tables, Column("id", Integer, primary_key=True), Column("site", Text, nullable=False),
    Column("device", Text, nullable=False), Column("point", Text, nullable=False),
    UniqueConstraint("site", "device", "point"),
)  # fmt: skip
"""A point by its identity; a derived point has no device."""

definition = Table(
    "definition", tables, Column("id", Integer, primary_key=True), Column("fingerprint", Text, nullable=False),
    Column("told", Text, nullable=False, unique=True),
)  # fmt: skip
reason = Table(
    "reason", tables, Column("id", Integer, primary_key=True), Column("text", Text, nullable=False, unique=True)
)

sample = Table(
    "sample", tables, Column("series", Integer, primary_key=True, autoincrement=False),
    Column("at", BigInteger, primary_key=True, autoincrement=False),
    Column("span", Integer, primary_key=True, autoincrement=False), Column("kind", SmallInteger, nullable=False),
    Column("quality", SmallInteger, nullable=False), Column("value", Double), Column("words", LargeBinary),
    Column("definition", Integer, nullable=False), Column("reason", Integer), sqlite_with_rowid=False,
)  # fmt: skip
"""`kind`: 0 begin, 1 changed, 2 still the same, 3 end. `quality`: 0 good, 1 stale, 2 bad, 3 never. `value` is null for
text and where there is none; `words` are the registers as they came."""

line = Table(
    "line", tables, Column("id", Integer, primary_key=True), Column("site", Text, nullable=False),
    Column("name", Text, nullable=False), Column("link", Text, nullable=False), Column("origin", Text, nullable=False),
    UniqueConstraint("site", "name", "link", "origin"),
)  # fmt: skip
minute = Table(
    "minute", tables, Column("id", Integer, primary_key=True), Column("at", BigInteger, nullable=False, index=True),
    Column("line", Integer, nullable=False), Column("device", Text, nullable=False),
    Column("asked", Integer, nullable=False), Column("good", Integer, nullable=False),
    Column("silent", Integer, nullable=False), Column("garbled", Integer, nullable=False),
    Column("strange", Integer, nullable=False), Column("unreachable", Integer, nullable=False),
    Column("late", Integer, nullable=False), Column("exceptions", Text, nullable=False),
    Column("median_us", Integer), Column("most_us", Integer), Column("busy", Double),
)  # fmt: skip
"""How a device did in the minute that began then; `exceptions` is JSON, counts by code; `most_us` is what 95 % of its
good answers took at most. A row without a device is of the line, with the share of the minute that it was busy."""

piece = Table(
    "piece", tables, Column("series", Integer, primary_key=True, autoincrement=False),
    Column("first", BigInteger, primary_key=True, autoincrement=False), Column("last", BigInteger, nullable=False),
    Column("span", Integer, primary_key=True, autoincrement=False), Column("rows", Integer, nullable=False),
    Column("least", Double), Column("most", Double), Column("area", Double, nullable=False),
    Column("recorded_us", BigInteger, nullable=False), Column("good_us", BigInteger, nullable=False),
    Column("number_us", BigInteger, nullable=False), Column("is_even", Boolean, nullable=False),
    Column("definition", Integer, nullable=False), Column("end_kind", SmallInteger, nullable=False),
    Column("end_quality", SmallInteger, nullable=False), Column("end_value", Double),
)  # fmt: skip
"""A summary of many rows of a series in a row, from `first` to `last`, of one span and one definition: the least and
the most good value; how long what it has stood up to the last row, in all, with a good value, with a number; `area` is
number by time. `is_even` where all of it is good numbers. `end_…` is its last row."""

Migration = tuple[Table, ...]
MIGRATIONS: tuple[Migration, ...] = (
    (run, span, series, definition, reason, sample),
    (line, minute),
    (piece,),
)
"""Tables that each version brought."""
WITH_PIECES = 3
"""The version that brought summaries."""


class NewerStore(Exception):
    """One sentence: a newer version of Kanaleto wrote it."""


_MAKING = 0x4B414E41  # names the lock under which tables are made


def bring_up(connection: Connection, name: str, upto: int = len(MIGRATIONS)) -> None:
    """Make the tables, or those that are missing since the version that made it; of several stations that begin at once
    one after the other. Raises NewerStore."""
    if connection.dialect.name == "postgresql":
        connection.execute(text(f"SELECT pg_advisory_xact_lock({_MAKING})"))
    known = version_of(connection)
    if known > len(MIGRATIONS):
        raise NewerStore(
            f"{name} was written by a newer version of Kanaleto (record {known}; this one knows {len(MIGRATIONS)})"
        )
    if known == upto:
        return
    if known == 0:
        version.create(connection)
        connection.execute(version.insert().values(version=0))
    for made in MIGRATIONS[known:upto]:
        for table in made:
            table.create(connection)
    connection.execute(version.update().values(version=upto))


def version_of(connection: Connection) -> int:
    """0 where there is no record yet."""
    if not inspect(connection).has_table(version.name):
        return 0
    return int(connection.execute(select(version.c.version)).scalar() or 0)
