"""The tables, and their versions: an older store is brought up to date when it is opened."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Connection,
    Float,
    Integer,
    MetaData,
    String,
    Table,
    inspect,
    select,
    text,
)

from daskel.system.requirements import MissingRequirementError

METADATA = MetaData()

VERSION = Table("schema_version", METADATA, Column("version", Integer, nullable=False))

LEASES = Table(
    "leases",
    METADATA,
    Column("address", String, primary_key=True),
    Column("segment", String, nullable=False),
    Column("mac", String, nullable=False),
    Column("state", String, nullable=False),
    Column("expires", Float, nullable=False),  # seconds since 1970
    Column("architecture", Integer),
    Column("digest", String, nullable=False, server_default=""),  # of all the others
    Column("iaid", Integer),  # of an IPv6 address
    Column("server", String, nullable=False, server_default=""),  # that wrote it, of several
)

SIGHTINGS = Table(  # machines that are not in the site and wanted to boot
    "sightings",
    METADATA,
    Column("mac", String, primary_key=True),
    Column("segment", String, nullable=False),
    Column("architecture", Integer),
    Column("vendor_class", String, nullable=False),
    Column("machine_id", String, nullable=False),
    Column("first", Float, nullable=False),  # seconds since 1970
    Column("last", Float, nullable=False),
    Column("times", Integer, nullable=False),
    Column("relay", String, nullable=False, server_default=""),
)

ONCE = Table(  # assignments for one boot
    "once",
    METADATA,
    Column("client", String, primary_key=True),
    Column("boot", String, nullable=False),
    Column("running", Boolean, nullable=False),  # used up by the boot that is under way
)

BOOTS = Table(
    "boots",
    METADATA,
    Column("number", Integer, primary_key=True, autoincrement=False),
    Column("mac", String, nullable=False, index=True),
    Column("client", String, index=True),
    Column("began", Float, nullable=False, index=True),  # seconds since 1970
    Column("last", Float, nullable=False),
    Column("stage", String, nullable=False),
    Column("events", JSON, nullable=False),  # [time, event] each
    Column("server", String, nullable=False, server_default=""),  # that it came to, of several
)

KEYS = Table(  # of clients whose private roots come through the tunnel
    "keys",
    METADATA,
    Column("client", String, primary_key=True),
    Column("mac", String, nullable=False),  # of the machine that has it
    Column("public", String, nullable=False, unique=True),  # its public part, hexadecimal
    Column("place", String, nullable=False),  # where the machine keeps it
    Column("since", Float, nullable=False),  # seconds since 1970
    Column("server", String, nullable=False, server_default=""),  # the server's that it knows
    Column("at", String, nullable=False, server_default=""),  # the server that it asked last
    Column("seal", String, nullable=False, server_default=""),  # see core/boot/contact
)

SHARED = MetaData()  # what a store of several servers has beside that

SERVERS = Table(
    "servers",
    SHARED,
    Column("name", String, primary_key=True),
    Column("token", String, nullable=False),  # of the process that has the name
    Column("began", Float, nullable=False),  # seconds since 1970, by the database's clock
    Column("beat", Float, nullable=False),  # when it was heard of last
    Column("version", String, nullable=False),  # of Daskel
    Column("host", String, nullable=False),
    Column("digest", String, nullable=False),  # of its site file
    Column("written", Float, nullable=False),  # when that was changed last
    Column("texts", JSON, nullable=False),  # digests of the files that it is made of
    Column("roots", JSON, nullable=False),  # what it has of them
    Column("site", String, nullable=False),  # the path of its site file
    Column("clients", Integer, nullable=False),  # machines that it has to do with now
    Column("lag", Float, nullable=False),  # seconds that its last exchange with the database took
)

APPLIED = Table(  # which site file was taken over last, for the others to look at theirs
    "applied",
    SHARED,
    Column("digest", String, nullable=False),
    Column("server", String, nullable=False),
    Column("at", Float, nullable=False),
)

HOMES = Table(  # of clients that keep slates: the server on whose disk those are
    "homes",
    SHARED,
    Column("client", String, primary_key=True),
    Column("server", String, nullable=False),
    Column("target", String, nullable=False, server_default=""),  # to which they are being moved
)

TEXTS = Table(  # of the site files that the servers have
    "texts",
    SHARED,
    Column("server", String, primary_key=True),
    Column("name", String, primary_key=True),
    Column("text", String, nullable=False),
)

WHOSE = Table("whose", SHARED, Column("site", String, nullable=False))

_CREATED: tuple[str, ...] = ()  # new tables alone, which are made where they are missing
# What makes a store of the version before into one of this; none is ever changed or removed.
MIGRATIONS: Mapping[int, Sequence[str]] = {
    1: _CREATED,  # leases
    2: _CREATED,  # and sightings
    3: _CREATED,  # and once
    4: ("ALTER TABLE sightings ADD COLUMN relay VARCHAR DEFAULT '' NOT NULL",),
    5: _CREATED,  # and boots
    6: ("ALTER TABLE leases ADD COLUMN digest VARCHAR DEFAULT '' NOT NULL",),
    7: ("ALTER TABLE leases ADD COLUMN iaid INTEGER",),
    8: (
        "ALTER TABLE leases ADD COLUMN server VARCHAR DEFAULT '' NOT NULL",
        "ALTER TABLE boots ADD COLUMN server VARCHAR DEFAULT '' NOT NULL",
    ),
    9: _CREATED,  # and keys
    10: (
        "ALTER TABLE keys ADD COLUMN server VARCHAR DEFAULT '' NOT NULL",
        "ALTER TABLE keys ADD COLUMN at VARCHAR DEFAULT '' NOT NULL",
        "ALTER TABLE keys ADD COLUMN seal VARCHAR DEFAULT '' NOT NULL",
    ),
}
# Of PostgreSQL alone: which of its transactions wrote a lease last, so that the other servers find
# what is new; and numbers of boots that no two servers have.
_OF_POSTGRESQL = (
    "ALTER TABLE leases ADD COLUMN IF NOT EXISTS changed xid8 NOT NULL "
    "DEFAULT pg_current_xact_id()",
    "CREATE INDEX IF NOT EXISTS leases_changed ON leases (changed)",
    "ALTER TABLE homes ADD COLUMN IF NOT EXISTS changed xid8 NOT NULL DEFAULT pg_current_xact_id()",
    "CREATE SEQUENCE IF NOT EXISTS boot_numbers",
)
_LOCK = 6108  # of PostgreSQL: two servers that begin at once
CURRENT = max(MIGRATIONS)


def prepare(connection: Connection) -> None:
    """Create the tables in an empty store, or bring an older one up to date.

    Raises MissingRequirementError when a newer Daskel made it.
    """
    shared = connection.dialect.name == "postgresql"
    if shared:
        connection.execute(text(f"SELECT pg_advisory_xact_lock({_LOCK})"))
    _prepare(connection)
    if shared:
        SHARED.create_all(connection)
        for statement in _OF_POSTGRESQL:
            connection.execute(text(statement))


def _prepare(connection: Connection) -> None:
    before = set(inspect(connection).get_table_names())
    METADATA.create_all(connection)
    version = connection.scalar(select(VERSION.c.version))
    if version is None:
        connection.execute(VERSION.insert().values(version=CURRENT))
    elif version < CURRENT:
        for number in range(version + 1, CURRENT + 1):
            for statement in MIGRATIONS[number]:
                if statement.split()[2] in before:  # else the table was made as it is now
                    connection.execute(text(statement))
        connection.execute(VERSION.update().values(version=CURRENT))
    elif version > CURRENT:
        problem = f"the store has schema version {version}, this Daskel knows {CURRENT}"
        remedy = "move it away, or name another with state = ... in [site]"
        raise MissingRequirementError(problem, remedy)
