"""A database server, for real: PostgreSQL on a socket of its own, with a role of the one who runs the tests."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["Server", "is_there", "running"]

_ROLE = "postgres"


def _programs() -> Path | None:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return found[-1].parent if found else None


def is_there() -> bool:
    """Tell whether such a server can be started here."""
    return _programs() is not None and (os.geteuid() != 0 or _ROLE in {one.pw_name for one in pwd.getpwall()})


class Server:
    """The running server; a database's address names its socket's folder, which must be short."""

    def __init__(self, folder: Path, programs: Path) -> None:
        self.folder, self.programs = folder, programs

    def run(self, *words: object) -> str:
        """Run a program as the server's own user, who is never root."""
        made = [str(word) for word in words]
        if os.geteuid() == 0:
            made = ["runuser", "-u", _ROLE, "--", *made]
        return subprocess.run(made, check=True, capture_output=True, text=True, cwd=self.folder).stdout

    def url(self, database: str, role: str = _ROLE) -> str:
        """Return a database's address."""
        return f"postgresql://{role}@/{database}?host={self.folder}"

    def create(self, database: str) -> str:
        """Make a database, and return its address."""
        self.sql("postgres", f"CREATE DATABASE {database}")
        return self.url(database)

    def sql(self, database: str, *statements: str) -> str:
        """Run statements as the one who may do everything."""
        words = [word for one in statements for word in ("-c", one)]
        return self.run(
            self.programs / "psql", "-h", self.folder, "-d", database, "-Atq", "-v", "ON_ERROR_STOP=1", *words
        )

    def start(self) -> None:
        """Start it, and wait until it answers."""
        options = f"-k {self.folder} -c listen_addresses='' -c fsync=off -c full_page_writes=off"
        self.run(
            self.programs / "pg_ctl",
            "-D",
            self.folder / "data",
            "-w",
            "-l",
            self.folder / "log",
            "-o",
            options,
            "start",
        )

    def stop(self, how: str = "fast") -> None:
        """Stop it; `immediate` is as if it were killed."""
        self.run(self.programs / "pg_ctl", "-D", self.folder / "data", "-m", how, "-w", "stop")


@contextmanager
def running() -> Iterator[Server]:
    """Have a server run while the context lasts."""
    programs = _programs()
    assert programs is not None
    folder = Path(tempfile.mkdtemp(prefix="pg", dir="/tmp"))
    folder.chmod(0o755)
    if os.geteuid() == 0:
        shutil.chown(folder, _ROLE)
    server = Server(folder, programs)
    try:
        role = ["-U", _ROLE]
        server.run(programs / "initdb", "-D", folder / "data", "-A", "trust", "-E", "UTF8", "--no-sync", *role)
        server.start()
        yield server
    finally:
        if (folder / "data" / "postmaster.pid").exists():
            server.stop("immediate")
        shutil.rmtree(folder, ignore_errors=True)
