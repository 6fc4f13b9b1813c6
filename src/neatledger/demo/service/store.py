"""What the service holds, in one SQLite file: people, groups, tree, shared tables, sign-ins, and ordered faults."""

from __future__ import annotations

import hashlib
import json
import os
import secrets
import sqlite3
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

__all__ = ["Store"]

_TABLES = """
CREATE TABLE IF NOT EXISTS users (
    id TEXT PRIMARY KEY, login TEXT NOT NULL UNIQUE, body TEXT NOT NULL, salt BLOB, password BLOB
);
CREATE TABLE IF NOT EXISTS groups (id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, members TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS nodes (
    path TEXT PRIMARY KEY, parent TEXT NOT NULL, kind TEXT NOT NULL, owner TEXT NOT NULL, size INTEGER NOT NULL,
    changed INTEGER NOT NULL, list TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS nodes_by_parent ON nodes (parent, path);
CREATE TABLE IF NOT EXISTS rows (name TEXT NOT NULL, id TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (name, id));
CREATE TABLE IF NOT EXISTS marks (name TEXT PRIMARY KEY, mark INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS tokens (hash BLOB PRIMARY KEY, login TEXT NOT NULL, until REAL NOT NULL);
CREATE TABLE IF NOT EXISTS faults (id INTEGER PRIMARY KEY, body TEXT NOT NULL, times INTEGER NOT NULL);
"""
_TOKEN_SECONDS = 300.0
_QUOTA = 200_000_000


class Store:
    """The file; one connection, used by one thread at a time."""

    quota = _QUOTA

    def __init__(self, path: Path) -> None:
        # It holds who may do what, and hashes of passwords: it is nobody else's from the first moment.
        os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))
        os.chmod(path, 0o600)
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self._lock = threading.RLock()
        self._db.executescript(_TABLES)

    def close(self) -> None:
        """Close the file, when whoever is being answered has been; whoever asks later gets a `sqlite3.Error`."""
        # SQLite ends the whole process where a connection is closed under another thread's statement.
        with self._lock:
            self._db.close()

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield self._db
            except BaseException:
                self._db.execute("ROLLBACK")
                raise
            self._db.execute("COMMIT")

    def _read(self, sql: str, *values: object) -> list[Any]:
        with self._lock:
            return self._db.execute(sql, values).fetchall()

    # Filling -----------------------------------------------------------------------------------------

    def fill(
        self,
        users: Iterable[Mapping[str, Any]],
        groups: Mapping[str, list[str]],
        nodes: Iterable[Mapping[str, Any]],
        tables: Mapping[str, Sequence[Mapping[str, Any]]],
    ) -> None:
        """Take over people, groups, tree and tables, whatever was there before."""
        with self._writing() as db:
            for table in ("users", "groups", "nodes", "rows", "marks"):
                db.execute(f"DELETE FROM {table}")
            for number, user in enumerate(users, start=1):
                values = (f"u{number:04d}", user["login"], json.dumps(dict(user)))
                db.execute("INSERT INTO users (id, login, body) VALUES (?, ?, ?)", values)
            for number, (name, members) in enumerate(groups.items(), start=1):
                db.execute("INSERT INTO groups VALUES (?, ?, ?)", (f"g{number:04d}", name, json.dumps(members)))
            db.executemany("INSERT INTO nodes VALUES (?, ?, ?, ?, ?, ?, ?)", (_node(each) for each in nodes))
            for name, rows in tables.items():
                db.execute("INSERT INTO marks VALUES (?, 1)", (name,))
                for number, row in enumerate(rows, start=1):
                    db.execute("INSERT INTO rows VALUES (?, ?, ?)", (name, f"{number:06d}", json.dumps(dict(row))))

    def set_password(self, login: str, password: str) -> None:
        """Let an account sign in with a password; only its salted hash is kept."""
        salt = os.urandom(16)
        with self._writing() as db:
            values = (salt, _hash(password, salt), login)
            db.execute("UPDATE users SET salt = ?, password = ? WHERE login = ?", values)

    # Signing in --------------------------------------------------------------------------------------

    def is_password(self, login: str, password: str) -> bool:
        """Tell whether this is the password of an open account; one that is not there, or closed, takes as long."""
        found = self._read("SELECT salt, password, body FROM users WHERE login = ? AND salt IS NOT NULL", login)
        salt, known, body = found[0] if found else (b"nobody's", b"", "{}")
        is_right = secrets.compare_digest(_hash(password, salt), known)
        return is_right and json.loads(body).get("active", True) is True

    def may_change(self, login: str) -> bool:
        """Tell whether an account may change things: an administrator's; all others only read."""
        found = self._read("SELECT body FROM users WHERE login = ?", login)
        return bool(found) and "administrator" in json.loads(found[0][0]).get("roles", ())

    def new_token(self, login: str) -> tuple[str, float]:
        """Return a token for an account, and for how many seconds it is good; only its hash is kept."""
        token = secrets.token_urlsafe(24)
        with self._writing() as db:
            until = time.time() + _TOKEN_SECONDS
            db.execute("INSERT INTO tokens VALUES (?, ?, ?)", (_digest(token), login, until))
        return token, _TOKEN_SECONDS

    def login_of(self, token: str) -> str | None:
        """Return whose token this is, if it is still good."""
        found = self._read("SELECT login FROM tokens WHERE hash = ? AND until > ?", _digest(token), time.time())
        return found[0][0] if found else None

    def end_tokens(self) -> None:
        """Let all tokens run out."""
        with self._writing() as db:
            db.execute("DELETE FROM tokens")

    # Asking ------------------------------------------------------------------------------------------

    def users(self) -> list[tuple[str, dict[str, Any]]]:
        """Return all accounts with their ids, in the order of these."""
        return [(ident, json.loads(body)) for ident, body in self._read("SELECT id, body FROM users ORDER BY id")]

    def groups(self) -> list[tuple[str, str, list[str]]]:
        """Return all groups: id, name, and the logins in them."""
        found = self._read("SELECT id, name, members FROM groups ORDER BY id")
        return [(ident, name, json.loads(members)) for ident, name, members in found]

    def node(self, path: str) -> dict[str, Any] | None:
        """Return a folder or file."""
        found = self._read(f"SELECT {_NODE} FROM nodes WHERE path = ?", path)
        return _as_node(found[0]) if found else None

    def children(self, path: str) -> list[dict[str, Any]]:
        """Return what lies in a folder."""
        return [
            _as_node(row) for row in self._read(f"SELECT {_NODE} FROM nodes WHERE parent = ? ORDER BY path", path)
        ]

    def used(self) -> int:
        """Return how many bytes all files have."""
        return int(self._read("SELECT coalesce(sum(size), 0) FROM nodes")[0][0])

    def page(self, name: str, first: int, count: int) -> tuple[int, int, list[tuple[str, dict[str, Any]]]]:
        """Return a table's mark (it changes with every change), the number of its rows, and some of them by id."""
        with self._lock:
            mark = self._read("SELECT mark FROM marks WHERE name = ?", name)
            total = self._read("SELECT count(*) FROM rows WHERE name = ?", name)[0][0]
            sql = "SELECT id, body FROM rows WHERE name = ? ORDER BY id LIMIT ? OFFSET ?"
            rows = [(ident, json.loads(body)) for ident, body in self._read(sql, name, count, first)]
        return (mark[0][0] if mark else 0), total, rows

    # Changing ----------------------------------------------------------------------------------------

    def put_row(self, name: str, ident: str, row: Mapping[str, Any] | None, mark: int | None = None) -> bool:
        """Set a row of a table by its id there, or remove it; not where the table's mark is another by now."""
        with self._writing() as db:
            now = db.execute("SELECT mark FROM marks WHERE name = ?", (name,)).fetchone()
            if mark is not None and mark != (now[0] if now else 0):
                return False
            if row is None:
                db.execute("DELETE FROM rows WHERE name = ? AND id = ?", (name, ident))
            else:
                db.execute("INSERT OR REPLACE INTO rows VALUES (?, ?, ?)", (name, ident, json.dumps(dict(row))))
            db.execute("INSERT INTO marks VALUES (?, 1) ON CONFLICT (name) DO UPDATE SET mark = mark + 1", (name,))
        return True

    def note_activity(self, row: Mapping[str, Any]) -> None:
        """Write down that somebody did something, behind all that was done before."""
        with self._writing() as db:
            # Rows are told in the order of their ids: it comes after all that are there.
            (number,) = db.execute("SELECT count(*) FROM rows WHERE name = 'activity'").fetchone()
            db.execute("INSERT INTO rows VALUES ('activity', ?, ?)", (f"~{number:012}", json.dumps(dict(row))))
            db.execute("INSERT INTO marks VALUES ('activity', 1) ON CONFLICT (name) DO UPDATE SET mark = mark + 1")

    def set_active(self, ident: str, active: bool) -> None:
        """Open or close an account."""
        with self._writing() as db:
            (body,) = db.execute("SELECT body FROM users WHERE id = ?", (ident,)).fetchone()
            db.execute(
                "UPDATE users SET body = ? WHERE id = ?", (json.dumps({**json.loads(body), "active": active}), ident)
            )

    def set_members(self, ident: str, members: Sequence[str]) -> None:
        """Set who is in a group, by login."""
        with self._writing() as db:
            db.execute("UPDATE groups SET members = ? WHERE id = ?", (json.dumps(list(members)), ident))

    def make_group(self, name: str, members: Sequence[str]) -> str | None:
        """Make a group, and return its id; None where there is one of this name."""
        with self._writing() as db:
            if db.execute("SELECT 1 FROM groups WHERE name = ?", (name,)).fetchone():
                return None
            (last,) = db.execute("SELECT coalesce(max(id), 'g0000') FROM groups").fetchone()
            ident = f"g{int(last[1:]) + 1:04d}"
            db.execute("INSERT INTO groups VALUES (?, ?, ?)", (ident, name, json.dumps(list(members))))
        return ident

    def make_user(self, user: Mapping[str, Any]) -> str | None:
        """Make an account, and return its id; None where there is one of this login."""
        with self._writing() as db:
            if db.execute("SELECT 1 FROM users WHERE login = ?", (user["login"],)).fetchone():
                return None
            (last,) = db.execute("SELECT coalesce(max(id), 'u0000') FROM users").fetchone()
            ident = f"u{int(last[1:]) + 1:04d}"
            values = (ident, user["login"], json.dumps(dict(user)))
            db.execute("INSERT INTO users (id, login, body) VALUES (?, ?, ?)", values)
        return ident

    def remove_user(self, ident: str) -> bool:
        """Take an account away; false where there is none."""
        with self._writing() as db:
            return db.execute("DELETE FROM users WHERE id = ?", (ident,)).rowcount > 0

    def remove_group(self, ident: str) -> bool:
        """Take a group away; false where there is none."""
        with self._writing() as db:
            return db.execute("DELETE FROM groups WHERE id = ?", (ident,)).rowcount > 0

    def move_first_user(self) -> None:
        """Give the first account an id behind all others, as if it had been removed and made again."""
        with self._writing() as db:
            last = db.execute("SELECT max(id) FROM users").fetchone()[0]
            number = int(last[1:]) + 1
            db.execute("UPDATE users SET id = ? WHERE id = (SELECT min(id) FROM users)", (f"u{number:04d}",))

    # Faults ------------------------------------------------------------------------------------------

    def order_fault(self, fault: Mapping[str, Any]) -> None:
        """Keep a fault until it has happened as often as ordered."""
        with self._writing() as db:
            values = (json.dumps(dict(fault)), int(fault.get("times", 1)))
            db.execute("INSERT INTO faults (body, times) VALUES (?, ?)", values)

    def take_fault(self, path: str) -> dict[str, Any] | None:
        """Return the first fault ordered for a path, once less often to come."""
        with self._writing() as db:
            for ident, body, times in db.execute("SELECT id, body, times FROM faults ORDER BY id").fetchall():
                fault: dict[str, Any] = json.loads(body)
                if not path.startswith(fault.get("path", "/")):
                    continue
                skip = int(fault.get("after", 0))
                if skip > 0:
                    fault["after"] = skip - 1
                    db.execute("UPDATE faults SET body = ? WHERE id = ?", (json.dumps(fault), ident))
                    continue
                if times > 1:
                    db.execute("UPDATE faults SET times = times - 1 WHERE id = ?", (ident,))
                else:
                    db.execute("DELETE FROM faults WHERE id = ?", (ident,))
                return fault
        return None


_NODE = "path, kind, owner, size, changed, list"


def _as_node(row: tuple[Any, ...]) -> dict[str, Any]:
    return dict(zip(("path", "kind", "owner", "size", "changed", "list"), row, strict=True))


def _node(each: Mapping[str, Any]) -> tuple[Any, ...]:
    path = each["path"]
    parent = "" if path == "/" else path.rpartition("/")[0] or "/"
    return path, parent, each["type"], each["owner"], each["bytes"], each["changed"], each["list"]


def _hash(password: str, salt: bytes) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, n=2**12, r=8, p=1)


def _digest(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()
