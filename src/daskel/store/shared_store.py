"""What must survive of a site with several servers, in PostgreSQL: the tables of `schema`, which
all of them read and write.

An address is never given to two machines: the one statement that writes leases takes none from a
machine that was promised it, whatever this server remembers. A promise is never made shorter. All
times are those of the database's clock.
"""

from __future__ import annotations

import os
import platform
import secrets
import socket
import threading
import time
from collections import deque
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from typing import Any, cast

from sqlalchemy import Connection, Engine, create_engine, delete, event, func, select, text
from sqlalchemy.dialects import postgresql
from sqlalchemy.exc import DBAPIError

from daskel import __version__
from daskel.core.boot.address import Lease, Leases
from daskel.core.history.boots import Boot, from_row
from daskel.core.history.once import Once
from daskel.core.values import without_password
from daskel.store.beats import (
    DEAD_AFTER,
    Applied,
    Beat,
    Home,
    NameTakenError,
    ServerRow,
    StoreAwayError,
    Told,
)
from daskel.store.database import Tables
from daskel.store.reading import lease
from daskel.store.schema import (
    APPLIED,
    BOOTS,
    LEASES,
    ONCE,
    SERVERS,
    SIGHTINGS,
    TEXTS,
    WHOSE,
    prepare,
)
from daskel.system.requirements import MissingRequirementError

_CONNECT, _SILENT = 3, 3000  # seconds for a connection; ms until a silent network is given up
_COUNT_AGAIN = 5.0  # seconds
_BLOCK, _SPARE = 1000, 4000  # numbers of boots that one server takes at once, and has at least
_BEYOND = 1 << 30
_GONE_ON, _MOST_GONE_ON = 86400.0, 2000  # seconds, boots: that may go on after a start
_NOW = "extract(epoch FROM clock_timestamp())::float8"
_COLUMNS = "l.address, l.segment, l.mac, l.state, l.expires, l.architecture, l.iaid"
# Ordered, so that two servers never wait for each other.
_KEEP = f"""
INSERT INTO leases AS l (address, segment, mac, state, expires, architecture, iaid, server)
SELECT address, segment, mac, state, extract(epoch FROM now())::float8 + seconds, architecture,
       iaid, %s
  FROM unnest(%s::text[], %s::text[], %s::text[], %s::text[], %s::float8[], %s::int[], %s::bigint[])
       AS a(address, segment, mac, state, seconds, architecture, iaid)
 ORDER BY address
ON CONFLICT (address) DO UPDATE SET
  segment = excluded.segment, mac = excluded.mac, state = excluded.state,
  expires = CASE WHEN l.mac = excluded.mac THEN greatest(l.expires, excluded.expires)
                 ELSE excluded.expires END,
  architecture = excluded.architecture, iaid = excluded.iaid, digest = '', server = excluded.server,
  changed = pg_current_xact_id()
WHERE (l.mac = excluded.mac
       AND (l.state <> 'declined' OR excluded.state = 'declined'
            OR l.expires <= extract(epoch FROM now()))
       AND (excluded.state <> 'released' OR l.server = excluded.server))
   OR (l.expires <= extract(epoch FROM now()) AND excluded.state <> 'released')
RETURNING {_COLUMNS}
"""
_WHO_HAS = f"SELECT {_COLUMNS} FROM leases AS l WHERE address = ANY(%s)"
_CHANGED = f"SELECT {_COLUMNS} FROM leases AS l WHERE changed >= %s::text::xid8 AND server <> %s"
_HELD = f"""
SELECT server, count(*) FROM leases WHERE state = 'bound' AND expires > {_NOW} GROUP BY server
"""
_HOME = """
INSERT INTO homes (client, server) SELECT c, %s FROM unnest(%s::text[]) AS c ORDER BY c
ON CONFLICT (client) DO NOTHING
"""
_MOVE = """
INSERT INTO homes (client, server, target) VALUES (%s, %s, %s)
ON CONFLICT (client) DO UPDATE SET
  server = excluded.server, target = excluded.target, changed = pg_current_xact_id()
"""
_HOMES = "SELECT client, server, target FROM homes WHERE client = ANY(%s)"
_MOVED = "SELECT client, server, target FROM homes WHERE changed >= %s::text::xid8"
_SNAPSHOT = f"SELECT pg_snapshot_xmin(pg_current_snapshot())::text, {_NOW}"


class SharedStore(Tables):
    """The store as one server has it. `name`: the server's; None for who only looks at it. Raises
    MissingRequirementError when it cannot be used."""

    is_shared = True

    def __init__(self, url: str, site: str, name: str | None) -> None:
        self._url, self._insert = url, postgresql.insert
        self.server, self._token = name or "", secrets.token_hex(8)
        self._open: set[Any] = set()  # psycopg's connections
        self._guard = threading.Lock()
        self._engine = self._made_engine()
        self._numbers: deque[int] = deque()
        self._since = "0"
        self._lag = 0.0
        self._held: dict[str, int] = {}
        self._counted = float("-inf")
        self._gone_on: dict[int, Boot] = {}
        try:
            with self._talking() as connection, connection.begin():
                prepare(connection)
                self._claim_site(connection, site)
            if name is not None:
                self._claim_name(name)
                self._take_numbers()
        except StoreAwayError as error:
            self._engine.dispose()
            raise MissingRequirementError(*_why(url, error.why)) from None
        except MissingRequirementError:
            self._engine.dispose()
            raise

    def _made_engine(self) -> Engine:
        try:
            import psycopg
        except ImportError:
            problem = "a store in PostgreSQL needs the Python package psycopg"
            remedy = "pip install 'daskel[postgresql]'"
            raise MissingRequirementError(problem, remedy) from None

        def connect() -> Any:
            return psycopg.connect(
                self._url, connect_timeout=_CONNECT, tcp_user_timeout=_SILENT,
                target_session_attrs="read-write",
                application_name=f"daskel {self.server}".strip(),
            )  # fmt: skip

        engine = create_engine("postgresql+psycopg://", creator=connect, pool_size=3)
        event.listen(engine, "connect", self._opened)
        event.listen(engine, "close", self._closed)
        event.listen(engine, "close_detached", lambda raw: self._closed(raw, None))
        return engine

    def _opened(self, raw: Any, _record: object) -> None:
        with self._guard:
            self._open.add(raw)
        with raw.cursor() as cursor:
            cursor.execute("SHOW synchronous_commit")
            if cursor.fetchone()[0] in ("off", "local"):
                cursor.execute("SET synchronous_commit TO on")
            cursor.execute("SET default_transaction_isolation TO 'read committed'")
        raw.commit()

    def _closed(self, raw: Any, _record: object) -> None:
        with self._guard:
            self._open.discard(raw)

    @contextmanager
    def _talking(self) -> Iterator[Connection]:
        """A connection. Raises StoreAwayError."""
        try:
            with self._engine.connect() as connection:
                yield connection
        except DBAPIError as error:
            raise StoreAwayError(_first_line(error)) from None
        except OSError as error:  # a connection that was cut just now
            raise StoreAwayError(str(error)) from None

    def cut(self) -> None:
        """Break off what is under way: a database that was frozen answers nobody for ever. For
        another thread than those that wait."""
        with self._guard:
            connections = list(self._open)
        for raw in connections:
            with suppress(Exception), closing(socket.socket(fileno=os.dup(raw.fileno()))) as sock:
                sock.shutdown(socket.SHUT_RDWR)

    def _claim_site(self, connection: Connection, site: str) -> None:
        whose = connection.scalar(select(WHOSE.c.site))
        if whose is None:
            connection.execute(WHOSE.insert().values(site=site))
        elif whose != site:
            problem = f"the database is of the site {whose!r}, not of {site!r}"
            remedy = "name a database of its own with state = ... in [site]"
            raise MissingRequirementError(problem, remedy)

    def _claim_name(self, name: str) -> None:
        """A name is free when nothing was heard of its server for some seconds."""
        until = time.monotonic() + DEAD_AFTER + 1
        while (other := self._try_name(name)) is not None:
            if time.monotonic() > until:
                problem = f"a server with the name {name} runs already, on {other.host}"
                remedy = "end it, or start this one under its own name: daskel serve --as NAME"
                raise MissingRequirementError(problem, remedy)
            time.sleep(DEAD_AFTER / 10)

    def _try_name(self, name: str) -> ServerRow | None:
        with self._talking() as connection, connection.begin():
            now = float(connection.scalar(text(f"SELECT {_NOW}")) or 0)
            row = {
                "name": name, "token": self._token, "began": now, "beat": now,
                "version": __version__, "host": platform.node(), "digest": "", "written": 0.0,
                "texts": {}, "roots": {}, "site": "", "clients": 0, "lag": 0.0,
            }  # fmt: skip
            statement = postgresql.insert(SERVERS).values(row)
            free = statement.on_conflict_do_update(
                index_elements=[SERVERS.c.name],
                set_={key: value for key, value in row.items() if key != "name"},
                where=SERVERS.c.beat <= now - DEAD_AFTER,
            ).returning(SERVERS.c.name)
            if connection.scalar(free) is not None:
                return None
            return next(one for one in _servers(connection) if one.name == name)

    def load(self) -> Leases:
        """All leases; what is changed after that, a beat brings."""
        with self._talking() as connection:
            self._since = str(connection.exec_driver_sql(_SNAPSHOT).one()[0])
            rows = connection.execute(select(LEASES)).mappings()
            return Leases([lease(row) for row in rows])

    def clock(self) -> float:
        """The database's, in seconds since 1970. Raises StoreAwayError."""
        with self._talking() as connection:
            return float(connection.exec_driver_sql(_SNAPSHOT).one()[1])

    def keep(self, leases: Sequence[Lease], now: float = 0.0) -> Sequence[Lease]:
        """Write those whose address nobody else was promised; on disk when this returns. What is
        in the way of the others. `now`: by the database's clock. Raises StoreAwayError."""
        if not leases:
            return ()
        rows = list({lease.address: lease for lease in leases}.values())
        columns: list[list[Any]] = [
            [str(le.address) for le in rows], [le.segment for le in rows], [le.mac for le in rows],
            [le.state.value for le in rows], [le.expires - now for le in rows],
            [le.architecture for le in rows], [le.iaid for le in rows],
        ]  # fmt: skip
        with self._talking() as connection:
            alone = connection.execution_options(isolation_level="AUTOCOMMIT")
            given = {row[0] for row in alone.exec_driver_sql(_KEEP, (self.server, *columns))}
            refused = [address for address in columns[0] if address not in given]
            if not refused:
                return ()
            found = alone.exec_driver_sql(_WHO_HAS, (refused,)).mappings()
            return [lease(row) for row in found]

    def beat(self, told: Told) -> Beat:
        """Say that this server is there, and learn of the others. Raises StoreAwayError, and
        NameTakenError when its name is another's now."""
        began = time.monotonic()
        with self._talking() as connection:
            alone = connection.execution_options(isolation_level="AUTOCOMMIT")
            since, now = alone.exec_driver_sql(_SNAPSHOT).one()
            mine = SERVERS.c.name == self.server, SERVERS.c.token == self._token
            values = {
                "beat": now, "digest": told.digest, "written": told.written,
                "texts": dict(told.texts), "roots": dict(told.roots), "site": told.site,
                "clients": told.clients, "lag": self._lag,
            }  # fmt: skip
            done = alone.execute(SERVERS.update().where(*mine).values(values))
            if not done.rowcount:
                raise NameTakenError(self.server)
            rows = alone.exec_driver_sql(_CHANGED, (self._since, self.server)).mappings()
            leases = list(_whole(rows))
            homes = _homes(alone.exec_driver_sql(_MOVED, (self._since,)))
            once = [Once(**row) for row in alone.execute(select(ONCE)).mappings()]
            servers = _servers(alone)
            last = alone.execute(select(APPLIED)).one_or_none()
            if began - self._counted > _COUNT_AGAIN:
                self._counted = began
                self._held = {row[0]: row[1] for row in alone.exec_driver_sql(_HELD)}
        self._since = str(since)
        self._take_numbers()
        self._lag = time.monotonic() - began
        applied = Applied(*last) if last else None
        middle = float(now) + self._lag / 2
        return Beat(middle, self._lag, leases, once, servers, applied, homes, self._held)

    def claim_homes(self, clients: Collection[str]) -> dict[str, Home]:
        """The servers on whose disks the slates of these clients are: this one, where no other said
        so before. Raises StoreAwayError."""
        with self._talking() as connection:
            alone = connection.execution_options(isolation_level="AUTOCOMMIT")
            alone.exec_driver_sql(_HOME, (self.server, list(clients)))
            return _homes(alone.exec_driver_sql(_HOMES, (list(clients),)))

    def move_home(self, client: str, home: Home) -> None:
        """Where the slates of a client are from now on. Raises StoreAwayError."""
        with self._talking() as connection:
            alone = connection.execution_options(isolation_level="AUTOCOMMIT")
            alone.exec_driver_sql(_MOVE, (client, *home))

    def apply(self, digest: str) -> None:
        """The site file with this digest is taken over. Raises StoreAwayError."""
        with self._talking() as connection, connection.begin():
            connection.execute(delete(APPLIED))
            now = connection.scalar(text(f"SELECT {_NOW}"))
            row = {"digest": digest, "server": self.server, "at": now}
            connection.execute(APPLIED.insert().values(row))

    def keep_texts(self, texts: Mapping[str, str]) -> None:
        """The site file of this server, and what it includes, by name. Raises StoreAwayError."""
        with self._talking() as connection, connection.begin():
            connection.execute(delete(TEXTS).where(TEXTS.c.server == self.server))
            rows = [{"server": self.server, "name": n, "text": text} for n, text in texts.items()]
            connection.execute(TEXTS.insert(), rows)

    def texts(self, server: str) -> dict[str, str]:
        """Those of a server. Raises StoreAwayError."""
        query = select(TEXTS.c.name, TEXTS.c.text).where(TEXTS.c.server == server)
        with self._talking() as connection:
            return {row[0]: row[1] for row in connection.execute(query)}

    def servers(self) -> list[ServerRow]:
        """All that are known. Raises StoreAwayError."""
        with self._talking() as connection:
            return _servers(connection)

    def numbers(self) -> Iterator[int]:
        """The numbers of the boots to come: no other server has them. They last for thousands of
        boots while the database is away; then any number does that is likely to be nobody's."""
        while True:
            try:
                yield self._numbers.popleft()
            except IndexError:
                yield _BEYOND + secrets.randbelow(_BEYOND)

    def _take_numbers(self) -> None:
        while len(self._numbers) < _SPARE:
            with self._talking() as connection, connection.begin():
                block = int(connection.scalar(text("SELECT nextval('boot_numbers')")) or 1)
            self._numbers.extend(range((block - 1) * _BLOCK + 1, block * _BLOCK + 1))

    def last_boots(self) -> dict[str, int]:
        """The number of the last boot of machines that may be running since before our start."""
        newest = (
            select(BOOTS)
            .where(BOOTS.c.server == self.server, BOOTS.c.last > time.time() - _GONE_ON)
            .order_by(BOOTS.c.last.desc())
            .limit(_MOST_GONE_ON)
        )
        with self._talking() as connection:
            boots = list(_whole_boots(connection.execute(newest).mappings()))
        found: dict[str, int] = {}
        for boot in boots:
            if found.setdefault(boot.mac, boot.number) == boot.number:
                self._gone_on[boot.number] = boot
        return found

    def boot(self, number: int) -> Boot | None:
        """One of `last_boots`, once."""
        return self._gone_on.pop(number, None)

    def boots_elsewhere(self, since: float) -> list[tuple[str, Boot]]:
        """Boots at other servers to which something happened since then (seconds since 1970), with
        the server of each. Raises StoreAwayError."""
        newest = (
            select(BOOTS)
            .where(BOOTS.c.server != self.server, BOOTS.c.last > since)
            .order_by(BOOTS.c.last.desc())
            .limit(_MOST_GONE_ON)
        )
        with self._talking() as connection:
            rows = [dict(row) for row in connection.execute(newest).mappings()]
        servers = {row["number"]: row["server"] for row in rows}
        return [(servers[boot.number], boot) for boot in _whole_boots(rows)]

    def rows(
        self, table: str, *, clients: Collection[str] | None = None, since: float = 0.0,
        until: float = float("inf"), number: int | None = None, most: int = 100_000,
    ) -> list[dict[str, Any]]:  # fmt: skip
        """What commands read: leases, once, sightings; or boots that began in that time, of these
        clients (names or MAC addresses), newest first. Raises StoreAwayError."""
        found = {one.name: one for one in (LEASES, ONCE, SIGHTINGS, BOOTS)}[table]
        query = select(found)
        if found is SIGHTINGS:
            query = query.order_by(SIGHTINGS.c.last.desc())
        elif found is BOOTS:
            query = query.where(BOOTS.c.began >= since, BOOTS.c.began < until)
            if number is not None:
                query = query.where(BOOTS.c.number == number)
            if clients is not None:
                query = query.where(BOOTS.c.client.in_(clients) | BOOTS.c.mac.in_(clients))
            query = query.order_by(BOOTS.c.began.desc(), BOOTS.c.number.desc()).limit(most)
        with self._talking() as connection:
            return [dict(row) for row in connection.execute(query).mappings()]

    def fill(self, rows: Mapping[str, Iterable[Mapping[str, Any]]]) -> dict[str, int]:
        """See `Tables.fill`; the numbers of boots go on behind those. Raises StoreAwayError."""
        counts = super().fill(rows)
        with self._talking() as connection, connection.begin():
            last = connection.scalar(select(func.max(BOOTS.c.number))) or 0
            block = last // _BLOCK + 1
            connection.execute(text("SELECT setval('boot_numbers', :block)"), {"block": block})
        return counts

    def copy(self) -> None:
        """PostgreSQL has its own ways to keep copies."""

    def close(self) -> None:
        """Others answer this server's machines from now on."""
        if self.server:
            mine = SERVERS.c.name == self.server, SERVERS.c.token == self._token
            with suppress(StoreAwayError), self._talking() as connection, connection.begin():
                connection.execute(SERVERS.update().where(*mine).values(beat=0.0))
        self._engine.dispose()


def _whole(rows: Iterable[Any]) -> Iterator[Lease]:
    """Without what somebody else has damaged, which keeps no server from learning the rest."""
    for row in rows:
        with suppress(MissingRequirementError):
            yield lease(row)


def _whole_boots(rows: Iterable[Mapping[Any, Any]]) -> Iterator[Boot]:
    """The same of boots."""
    for row in rows:
        with suppress(TypeError, ValueError, KeyError):
            yield from_row(dict(row))


def _homes(rows: Iterable[Any]) -> dict[str, Home]:
    return {row[0]: Home(row[1], row[2]) for row in rows}


def _servers(connection: Connection) -> list[ServerRow]:
    now = text(f"{_NOW} - beat AS age")
    columns = [SERVERS.c[name] for name in (
        "name", "began", "version", "host", "digest", "written", "texts", "roots", "site",
        "clients", "lag",
    )]  # fmt: skip
    rows = connection.execute(select(now, *columns).order_by(SERVERS.c.name)).mappings()
    return [ServerRow(**cast(Mapping[str, Any], row)) for row in rows]


def _first_line(error: DBAPIError) -> str:
    lines = [line.strip() for line in str(error.orig or error).splitlines() if line.strip()]
    return lines[0] if lines else type(error.orig).__name__


def _why(url: str, said: str) -> tuple[str, str]:
    """What keeps a database from being used, and what to do: by what can be tried, one after the
    other."""
    from psycopg.conninfo import conninfo_to_dict

    shown = without_password(url)
    try:
        parts = conninfo_to_dict(url)
    except Exception as error:  # noqa: BLE001 - psycopg's own, by whatever name
        problem = f"{shown} cannot be read: {str(error).strip()}"
        return problem, "write it like postgresql://daskel@db.skerry.example/daskel"
    hosts = [one for one in str(parts.get("host") or "").split(",") if one and one[0] not in "/@"]
    ports = [one or "5432" for one in str(parts.get("port") or "5432").split(",")]
    wrong = []
    for number, host in enumerate(hosts):
        port = int(ports[number if number < len(ports) else 0])
        try:
            socket.create_connection((host, port), timeout=_CONNECT).close()
        except socket.gaierror:
            wrong.append(f"there is no host {host}")
        except OSError as error:
            wrong.append(f"nobody answers at {host}:{port} ({error.strerror or error})")
    if hosts and len(wrong) == len(hosts):
        problem = f"the store {shown} cannot be reached: {'; '.join(wrong)}"
        return problem, "does PostgreSQL run there, listen there, and may it be reached from here?"
    problem = f"the store {shown} cannot be used: {said}"
    remedy = "check the account, its password and rights, the database's name, and the certificate"
    return problem, remedy + "; a standby cannot be written"
