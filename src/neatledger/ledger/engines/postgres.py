"""A ledger in a database of PostgreSQL's, for several administrators at once.

Rights are those of roles: who may read the tables may ask, who may insert too may add counts, and nobody may alter
one, whoever they are: triggers refuse it.
"""

from __future__ import annotations

import getpass
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from typing import Any
from urllib.parse import parse_qsl, urlencode, urlsplit

from neatledger.errors import UNREADABLE, LedgerError
from neatledger.extras import extras_for
from neatledger.keyrings import password_of
from neatledger.ledger.engines.contract import EngineError
from neatledger.ledger.engines.postgres_schema import MIGRATIONS
from neatledger.ledger.writing import transaction

__all__ = ["PostgresDatabase", "connect", "plain_url"]

_WRITING, _CARRYING = 0x4E4C4447, 0x4E4C4448
_WAIT_SECONDS = 60
LONGEST_WAIT = 300.0
"""Seconds that one answer of the server may take: longer than it waits for others who write."""
_SCHEMA = re.compile(r"[a-z_][a-z0-9_]{0,62}")
# Tables that number their rows by themselves.
_NUMBERED = frozenset(
    {"counts", "surveys", "journal", "findings", "reviews", "notices", "trail_logs", "trail_words", "trail_folders",
     "trail_deeds", "trail_blocks", "trail_moves", "trail_gaps", "plans"}
)  # fmt: skip
_INSERT = re.compile(r"\s*INSERT INTO (?P<table>\w+)")
_AMONG = re.compile(r"IN \(SELECT value FROM json_each\(\?\)\)")
_EACH = re.compile(r"json_each\(\?\) AS (?P<name>\w+)")
_MARK = re.compile(r"\?(?P<number>\d*)")


@lru_cache(maxsize=512)
def _translated(sql: str) -> tuple[str, tuple[int, ...] | None]:
    """Return a statement as PostgreSQL has it, and which values its marks stand for (None: each for its own)."""
    text = sql.replace("%", "%%")
    text = _AMONG.sub("IN (SELECT v::text::bigint FROM jsonb_array_elements(?::jsonb) AS v)", text)
    text = _EACH.sub(r"jsonb_array_elements(?::jsonb) AS \g<name>(value)", text)
    numbers = [found["number"] for found in _MARK.finditer(text)]
    text = _MARK.sub("%s", text)
    return text, tuple(int(one) - 1 for one in numbers) if any(numbers) else None


class _Rows:
    """The rows of a statement, all of them fetched."""

    def __init__(self, rows: list[tuple[Any, ...]], lastrowid: int | None) -> None:
        self._rows, self._at, self.lastrowid = rows, 0, lastrowid

    def fetchone(self) -> Any:
        row = self._rows[self._at] if self._at < len(self._rows) else None
        self._at += 1
        return row

    def fetchall(self) -> list[Any]:
        rest, self._at = self._rows[self._at :], len(self._rows)
        return rest

    def __iter__(self) -> Iterator[Any]:
        return iter(self.fetchall())


class PostgresDatabase:
    """An open connection; what it says goes wrong is `EngineError`."""

    def __init__(self, connection: Any, where: str) -> None:
        self._connection = connection
        self.where = where
        self._is_impatient = False

    @property
    def in_transaction(self) -> bool:
        """Whether a transaction was begun and not ended."""
        from psycopg.pq import TransactionStatus

        status = self._connection.info.transaction_status
        return bool(status not in (TransactionStatus.IDLE, TransactionStatus.UNKNOWN))

    def execute(self, sql: str, values: Sequence[Any] = (), /) -> _Rows:
        """Run a statement, written as SQLite has it."""
        text, order = _translated(sql)
        found = _INSERT.match(text)
        returns = found is not None and found["table"] in _NUMBERED and " RETURNING " not in text
        asked = values if order is None else [values[one] for one in order]
        with self._errors():
            cursor = self._connection.execute(f"{text} RETURNING id" if returns else text, asked, binary=True)
            rows = cursor.fetchall() if cursor.description is not None else []
        return _Rows([], rows[-1][0] if rows else None) if returns else _Rows(rows, None)

    def executemany(self, sql: str, values: Iterable[Sequence[Any]], /) -> None:
        """Run a statement for each of some rows."""
        text, _ = _translated(sql)
        with self._errors(), self._connection.cursor(binary=True) as cursor:
            cursor.executemany(text, list(values))

    def close(self) -> None:
        """Close the connection."""
        self._connection.close()

    def begin(self) -> None:
        """Begin a transaction that no other run can come between; waits for another to end."""
        self.execute("BEGIN")
        if self._is_impatient:
            lock = "SELECT pg_try_advisory_xact_lock(hashtext(coalesce(current_schema(), '')), ?)"
            (is_ours,) = self.execute(lock, (_WRITING,)).fetchone()
            if not is_ours:
                raise EngineError("locked")
            return
        self.execute(f"SET LOCAL lock_timeout = '{_WAIT_SECONDS}s'")
        self.execute("SELECT pg_advisory_xact_lock(hashtext(coalesce(current_schema(), '')), ?)", (_WRITING,))

    @contextmanager
    def impatient(self) -> Iterator[None]:
        """Within this, `begin` fails at once where another run is writing."""
        self._is_impatient = True
        try:
            yield
        finally:
            self._is_impatient = False

    def columns_of(self, table: str) -> list[str]:
        """Return the names of a table's columns, in their order."""
        query = (
            "SELECT attname::text FROM pg_attribute WHERE attrelid = (?::text)::regclass AND attnum > 0"
            " AND NOT attisdropped ORDER BY attnum"
        )
        return [name for (name,) in self.execute(query, (table,))]

    def overwrite_deleted(self) -> None:
        """Nothing can be done of that here: what is deleted goes with the next VACUUM."""

    def number_on(self) -> None:
        """Have blocks of the trail go on after those that were written with their numbers; others do so anyway."""
        last = "(SELECT coalesce(max(id), 0) + 1 FROM trail_blocks)"
        self.execute(f"SELECT setval(pg_get_serial_sequence('trail_blocks', 'id'), {last}, false)")

    @contextmanager
    def held(self, name: str) -> Iterator[bool]:
        """Hold a lock for as long as the connection stands at most; false where another holds it."""
        lock = "SELECT pg_try_advisory_lock(hashtext(current_schema() || ?::text), ?)"
        (is_ours,) = self.execute(lock, (name, _CARRYING)).fetchone()
        try:
            yield bool(is_ours)
        finally:
            if is_ours and not self._connection.broken:
                self.execute("SELECT pg_advisory_unlock(hashtext(current_schema() || ?::text), ?)", (name, _CARRYING))

    @contextmanager
    def _errors(self) -> Iterator[None]:
        import psycopg

        try:
            yield
        except psycopg.errors.LockNotAvailable as error:
            raise EngineError("locked") from error
        except psycopg.errors.InsufficientPrivilege as error:
            raise EngineError(f"this role may not: {_first_line(error)}") from error
        except psycopg.Error as error:
            raise EngineError(_first_line(error)) from error
        except (OSError, TimeoutError, *UNREADABLE) as error:
            self._connection.close()
            raise EngineError(f"the server gave no answer that can be read ({type(error).__name__})") from error
        except Exception as error:
            if type(error).__name__ != "_WaitTimeout":
                raise
            self._connection.close()
            raise EngineError(f"the server did not answer within {LONGEST_WAIT:g} seconds") from error


def _first_line(error: Exception) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0]


# What may stand behind the question mark: settings of libpq (PostgreSQL, 34.1.2) that hold no secret.
_SETTINGS = frozenset(
    {
        *("schema", "host", "hostaddr", "port", "user", "dbname", "passfile", "service", "options"),
        *("sslmode", "sslrootcert", "sslcert", "sslkey", "sslcrl", "sslnegotiation", "ssl_min_protocol_version"),
        *("channel_binding", "require_auth", "gssencmode", "krbsrvname", "connect_timeout", "keepalives"),
        *("keepalives_idle", "tcp_user_timeout", "target_session_attrs", "load_balance_hosts"),
    }
)
_WAYS = "its password is kept in ~/.pgpass, in the keyring as 'neatledger ledger', or in PGPASSWORD"


def plain_url(url: str) -> tuple[str, str]:
    """Return the URL of a database without what libpq does not know, and the schema that it names.

    Raises `LedgerError` where it is none, or holds a password; what is refused is never shown.
    """
    hint = "write it as postgresql://SERVER/NAME, or postgresql:///NAME for a server on this machine"
    try:
        parts = urlsplit(url)
        # Reading it raises where it is no number.
        parts.port  # noqa: B018
        query = parse_qsl(parts.query, keep_blank_values=True, strict_parsing=bool(parts.query), errors="strict")
    except ValueError:
        raise LedgerError("the ledger's address cannot be read", hint=hint) from None
    where = f"postgresql://{'…@' if parts.username else ''}{parts.hostname or ''}"
    if parts.password is not None:
        raise LedgerError("a password stands in the ledger's address", where, f"take it out: {_WAYS}")
    for name, _ in query:
        if "password" in name.casefold():
            raise LedgerError("a password stands in the ledger's address", where, f"take it out: {_WAYS}")
        if name not in _SETTINGS:
            raise LedgerError("what stands behind the ? of the ledger's address is no setting of it", where, hint)
    if parts.fragment or "\0" in url or any(letter.isspace() for letter in url):
        raise LedgerError("the ledger's address cannot be read", hint=hint)
    settings = dict(query)
    schema = settings.pop("schema", "neatledger")
    if not _SCHEMA.fullmatch(schema):
        raise LedgerError(f"{schema!r} is no name of a schema", url, "small letters, digits and _")
    # Without a host it is the server of this machine, by its socket: the slashes belong to the address all the same.
    address = f"postgresql://{parts.netloc}{parts.path}"
    return address + (f"?{urlencode(settings)}" if settings else ""), schema


def connect(
    url: str, *, create: bool, brought_up: Callable[[PostgresDatabase, int], object]
) -> PostgresDatabase | None:
    """Open a ledger, bring it to the current version, and return it; raises `LedgerError`.

    `brought_up` is told of an older version, whose tables are new now, within the transaction that made them so. None
    where there is no ledger yet and none is to be made.
    """
    address, schema = plain_url(url)
    with extras_for("the ledger"):
        import psycopg
    try:
        connection = _signed_in(address)
    except (psycopg.Error, *UNREADABLE) as error:
        raise LedgerError(f"cannot be reached: {_first_line(error)}", url, f"see its server; {_WAYS}") from None
    database = PostgresDatabase(connection, url)
    try:
        database.execute(f"SET search_path TO {schema}")
        database.execute("SET client_min_messages TO warning")
        is_there, newest = _is_there(database, schema), max(MIGRATIONS)
        if not is_there and not create:
            connection.close()
            return None
        version = _version(database) if is_there else 0
        if version > newest:
            raise LedgerError(f"made by a newer version (ledger {version}, this knows {newest})", url)
        if version < newest:
            _bring_up(database, schema, brought_up)
    except EngineError as error:
        connection.close()
        raise LedgerError(f"cannot be used: {error}", url) from None
    except BaseException:
        connection.close()
        raise
    return database


def _signed_in(address: str) -> Any:
    """Return a connection; the keyring is only asked where a password is wanted and nothing else tells it."""
    import psycopg

    class Patient(psycopg.Connection[Any]):
        """A connection that does not wait for ever for a server, or somebody in between, that says no more."""

        def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:
            return super().wait(gen, interval, LONGEST_WAIT if timeout is None else timeout)

    settings: dict[str, Any] = {"autocommit": True, "application_name": "neatledger"}
    if "connect_timeout=" not in address:
        settings["connect_timeout"] = 20
    try:
        return Patient.connect(address, **settings)
    except psycopg.OperationalError as error:
        if "no password supplied" not in str(error):
            raise
        known = psycopg.conninfo.conninfo_to_dict(address)
        user = str(known.get("user") or os.environ.get("PGUSER") or getpass.getuser())
        password = password_of("neatledger ledger", user)
        if password is None:
            raise
        return Patient.connect(address, password=password, **settings)


def _is_there(database: PostgresDatabase, schema: str) -> bool:
    (found,) = database.execute("SELECT to_regclass(?::text) IS NOT NULL", (f"{schema}.ledger_version",)).fetchone()
    return bool(found)


def _bring_up(database: PostgresDatabase, schema: str, brought_up: Callable[[PostgresDatabase, int], object]) -> None:
    """Make what is not there yet, and lead an older version to the current one."""
    with transaction(database):
        # Two first runs at once: the one that comes second finds what the first made.
        if not _is_there(database, schema):
            database.execute(f"CREATE SCHEMA IF NOT EXISTS {schema}")
            database.execute("CREATE TABLE ledger_version (version integer NOT NULL)")
            database.execute("INSERT INTO ledger_version VALUES (0)")
        version = _version(database)
        _step_up(database)
        brought_up(database, version)


def _version(database: PostgresDatabase) -> int:
    (version,) = database.execute("SELECT version FROM ledger_version").fetchone()
    return int(version)


def _step_up(database: PostgresDatabase) -> None:
    version = _version(database)
    for number, statements in sorted(MIGRATIONS.items()):
        if number > version:
            for statement in statements:
                database.execute(statement)
            database.execute("UPDATE ledger_version SET version = ?", (number,))
