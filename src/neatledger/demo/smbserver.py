"""A real SMB server on loopback, with accounts, configuration and state of its own.

Needs root, Samba's server, and the library that lets a process see private account files (NSS wrapper);
`missing` says what is not there. Nothing of the machine's own accounts or configuration is touched.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from types import TracebackType

from neatledger.core.people.credentials import Credentials
from neatledger.errors import SourceError

__all__ = ["SmbAccount", "SmbGroup", "SmbServer", "SmbShare", "is_root", "missing"]

ADMIN = "loftadmin"
_WRAPPER = ("/usr/lib", "/usr/lib64", "/lib")
_PROGRAMS = ("smbd", "net", "pdbedit")
_STARTS_WITHIN = 30.0
_GLOBAL = """[global]
netbios name = {name}
workgroup = {domain}
server role = standalone server
passdb backend = tdbsam:{dir}/private/passdb.tdb
private dir = {dir}/private
state directory = {dir}/state
cache directory = {dir}/cache
lock directory = {dir}/lock
pid directory = {dir}/pid
ncalrpc dir = {dir}/ncalrpc
log file = {logs}/log.%m
max log size = 1000
smb ports = {port}
interfaces = 127.0.0.1/8
bind interfaces only = yes
disable netbios = yes
server min protocol = SMB3
server signing = mandatory
map to guest = never
restrict anonymous = 2
load printers = no
printcap name = /dev/null
disable spoolss = yes
usershare max shares = 0
unix extensions = no
admin users = {admin}
vfs objects = acl_xattr
acl_xattr:ignore system acls = yes
"""


@dataclass(frozen=True, slots=True)
class SmbAccount:
    """One account: its number on the machine, and the last number of its security identifier."""

    login: str
    number: int
    rid: int
    name: str = ""


@dataclass(frozen=True, slots=True)
class SmbGroup:
    """One group, with the logins in it."""

    name: str
    number: int
    rid: int
    members: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class SmbShare:
    """One share: its folder on disk, its permission as SDDL (empty: everyone all), and further settings."""

    name: str
    path: Path
    permission: str = ""
    settings: tuple[tuple[str, str], ...] = (("read only", "no"),)


def _wrapper() -> Path | None:
    found = (path for folder in _WRAPPER for path in Path(folder).glob("**/libnss_wrapper.so"))
    return next(found, None)


def is_root() -> bool:
    """Tell whether this process may do everything; on systems that have no such user it may not."""
    return hasattr(os, "geteuid") and os.geteuid() == 0


def missing() -> list[str]:
    """Return what a server would need and this machine lacks."""
    lacking = [] if is_root() else ["root"]
    path = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
    lacking += [program for program in _PROGRAMS if not shutil.which(program, path=path)]
    lacking += [] if _wrapper() else ["libnss_wrapper"]
    return lacking + ([] if find_spec("smbprotocol") else ["neatledger[smb]"])


class SmbServer:
    """A context in which the server runs; `port` and `password` (of every account) are made for the run.

    Its log files are in the folder that is given. Its state is in a folder of its own that goes with it: its parts
    speak over sockets, whose paths may have 107 bytes (unix(7)), and a longer one leaves it waiting for ever.
    """

    def __init__(
        self,
        folder: Path,
        sid: str,
        accounts: Sequence[SmbAccount],
        groups: Sequence[SmbGroup],
        shares: Sequence[SmbShare],
        *,
        name: str = "LOFT",
        domain: str = "PELLOWMERE",
        settings: Mapping[str, str] | None = None,
    ) -> None:
        self.folder = folder.resolve()
        self.sid = sid
        self.accounts, self.groups, self.shares = accounts, groups, shares
        self.name, self.domain = name, domain
        self.settings = settings or {}
        self.password = secrets.token_urlsafe(18)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port: int = probe.getsockname()[1]
        self._process: subprocess.Popen[bytes] | None = None
        self._state = Path(tempfile.mkdtemp(prefix="smb", dir=min(("/tmp", tempfile.gettempdir()), key=len)))
        self._env = {
            **os.environ,
            "PATH": f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin",
            "LD_PRELOAD": str(_wrapper()),
            "NSS_WRAPPER_PASSWD": str(self._state / "passwd"),
            "NSS_WRAPPER_GROUP": str(self._state / "group"),
        }

    @property
    def admin(self) -> str:
        """The login of the account that may do everything."""
        return ADMIN

    def __enter__(self) -> SmbServer:
        try:
            self._configure()
            self._process = subprocess.Popen(
                ["smbd", "--foreground", "--no-process-group", f"--configfile={self._conf}"],
                env=self._env,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
            )
            self._wait()
        except BaseException:
            self.stop()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    def stop(self) -> None:
        """End the server's processes with the helpers that it started, and nothing else; remove its state."""
        for how in (signal.SIGTERM, signal.SIGTERM, signal.SIGKILL):
            processes = self._processes()
            for process in processes:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(process, how)
            if not processes:
                break
            time.sleep(0.1)
        if self._process is not None:
            self._process.wait()
            self._process = None
        shutil.rmtree(self._state, ignore_errors=True)

    def kill_children(self) -> None:
        """Kill what serves the connections of now, as a crash does; the server itself goes on and takes new ones."""
        assert self._process is not None
        for process in self._processes():
            if process != self._process.pid:
                with contextlib.suppress(OSError):
                    parent = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[1]
                    if int(parent) == self._process.pid:
                        os.kill(process, signal.SIGKILL)

    def _processes(self) -> list[int]:
        """Return all that runs with this server's configuration: its helpers leave the server's own session."""
        word, found = f"--configfile={self._conf}".encode(), []
        for path in Path("/proc").glob("[0-9]*/cmdline"):
            with contextlib.suppress(OSError):
                if word in path.read_bytes().split(b"\0") and path.parent.name != str(os.getpid()):
                    found.append(int(path.parent.name))
        return found

    @property
    def _conf(self) -> Path:
        return self._state / "smb.conf"

    def _configure(self) -> None:
        for part in ("private", "state", "cache", "lock", "pid", "ncalrpc"):
            (self._state / part).mkdir(exist_ok=True)
        self.folder.mkdir(parents=True, exist_ok=True)
        for folder in (self.folder, self._state):
            folder.chmod(0o755)
        accounts = [SmbAccount(ADMIN, 59999, 4999), *self.accounts]
        lines = ["root:x:0:0:root:/root:/bin/sh", "nobody:x:65534:65534:nobody:/:/bin/false"]
        lines += [f"{one.login}:x:{one.number}:59998:{one.name}:/:/bin/false" for one in accounts]
        (self._state / "passwd").write_text("\n".join(lines) + "\n")
        lines = ["root:x:0:", "nogroup:x:65534:", "everybody:x:59998:"]
        lines += [f"{group.name}:x:{group.number}:{','.join(group.members)}" for group in self.groups]
        (self._state / "group").write_text("\n".join(lines) + "\n")
        text = _GLOBAL.format(
            name=self.name, domain=self.domain, dir=self._state, logs=self.folder, port=self.port, admin=ADMIN
        )
        text += "".join(f"{key} = {value}\n" for key, value in self.settings.items())
        for share in self.shares:
            text += f"[{share.name}]\npath = {share.path}\n"
            text += "".join(f"{key} = {value}\n" for key, value in share.settings)
        self._conf.write_text(text)
        self._call("net", "setlocalsid", self.sid)
        self._call("net", "groupmap", "add", "rid=513", "unixgroup=everybody", "ntgroup=None", "type=domain")
        for one in accounts:
            words = f"{self.password}\n{self.password}\n"
            self._call("pdbedit", "-a", "-t", "-u", one.login, "-U", str(one.rid), "-f", one.name, text=words)
        for group in self.groups:
            mapped = (f"rid={group.rid}", f"unixgroup={group.name}", f"ntgroup={group.name}", "type=domain")
            self._call("net", "groupmap", "add", *mapped)
        for share in self.shares:
            if share.permission:
                self._call("sharesec", share.name, "-S", share.permission)

    def _call(self, program: str, *words: str, text: str = "") -> str:
        done = subprocess.run(
            [program, f"--configfile={self._conf}", *words], env=self._env, input=text, capture_output=True, text=True
        )
        if done.returncode:
            message = (done.stderr or done.stdout).strip().splitlines()
            raise SourceError(
                f"{program} {words[0]} failed: {message[-1] if message else done.returncode}", str(self.folder)
            )
        return done.stdout

    def _wait(self) -> None:
        """Wait until it lists its shares: it takes connections before the helpers that answer calls are there."""
        # The library behind it is installed apart, and what is missing is asked before.
        from neatledger.sources.smberrors import Lost, Refused
        from neatledger.sources.smbnames import read_share_names
        from neatledger.sources.smbsession import SmbSession, Terms

        until = time.monotonic() + _STARTS_WITHIN
        while time.monotonic() < until:
            assert self._process is not None
            if self._process.poll() is not None:
                break
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                terms = Terms("127.0.0.1", self.port, timeout=5.0)
                with SmbSession(terms, Credentials(ADMIN, self.password)) as session:
                    if {share.name for share in self.shares} <= set(read_share_names(session)):
                        return
            except (OSError, SourceError, Lost, Refused):
                pass
            time.sleep(0.1)
        raise SourceError("the SMB server did not start", str(self.folder), "see the log files there")
