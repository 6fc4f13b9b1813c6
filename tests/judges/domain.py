"""A real Windows-style domain on loopback as judge: random people and groups, and the groups of each as it works them out.

The domain's controller is provisioned into a folder of its own and listens at an address of its own (its ports are
fixed). Its own tools, in the system's Python, put entries in and tell the ``tokenGroups`` of everybody.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path
from types import TracebackType

BASE = "DC=pellowmere,DC=example"
_NAMES = [
    "Ada Lark",
    "Bo #7",
    "Cy, the vet",
    'Dot "Dee"',
    "Eve+Una",
    "Fay\\Hill",
    "Gül Öz",
    "Hal;Jay",
    "Ivy <x>",
    "# Jo",
]
_SYSTEM_PYTHON = "/usr/bin/python3"
_GLOBAL, _LOCAL, _UNIVERSAL, _SECURITY = 2, 4, 8, 0x80000000
# This server makes no entry for S-1-1-0: it can be named only once.
_FOREIGN = ["S-1-5-11", "S-1-5-4", "S-1-5-21-9-8-7-1105", "S-1-5-21-9-8-7-1106"]
_OUTSIDE = f"CN=ForeignSecurityPrincipals,{BASE}"
_SCRIPT = """
import json, sys
import ldb
from samba.auth import system_session
from samba.param import LoadParm
from samba.samdb import SamDB
from samba.ndr import ndr_unpack
from samba.dcerpc import security
folder, work = sys.argv[1], json.load(sys.stdin)
lp = LoadParm(); lp.load(folder + "/etc/smb.conf")
db = SamDB(url=folder + "/private/sam.ldb", session_info=system_session(), lp=lp)
for text in work.get("add", ()):
    db.add_ldif(text)
for dn, word in work.get("passwords", ()):
    db.setpassword("(distinguishedName=%s)" % ldb.binary_encode(dn), word, force_change_at_next_login=False)
for text in work.get("change", ()):
    db.modify_ldif(text)
found = {}
for one in db.search(work["base"], ldb.SCOPE_SUBTREE, "(&(objectClass=user)(!(objectClass=computer)))", ["sAMAccountName"]):
    me = db.search(one.dn, ldb.SCOPE_BASE, attrs=["tokenGroups", "objectSid"])[0]
    sids = [str(ndr_unpack(security.dom_sid, bytes(value))) for value in me.get("tokenGroups", ())]
    found[str(one["sAMAccountName"])] = [str(ndr_unpack(security.dom_sid, bytes(me["objectSid"][0]))), sids]
json.dump(found, sys.stdout)
"""

# Puts folders with access lists into its share, and tries rights on each as each of its people.
_TRY = """
import json, sys, time
from samba import NTSTATUSError
from samba.credentials import Credentials
from samba.dcerpc import security
from samba.samba3 import libsmb_samba_internal as libsmb, param
work = json.load(sys.stdin)
# Internal error, no logon servers, pipe not available, timeout, connection reset (MS-ERREF 2.3.1).
NOT_READY = {0xC00000E5, 0xC000005E, 0xC00000AC, 0xC00000B5, 0xC000020D}
settings = param.get_context(); settings.load(work["conf"])
def signed_in(user):
    who = Credentials(); who.guess(settings); who.set_domain("PELLOWMERE"); who.set_username(user)
    who.set_password(work["password"]); who.set_kerberos_state(0)
    return libsmb.Conn(work["host"], "office", settings, who)
until = time.monotonic() + 60
def tried(user):
    # Its ports are open before those who check passwords for it are ready: until then it has internal errors.
    while True:
        try:
            return signed_in(user)
        except NTSTATUSError as error:
            if error.args[0] & 0xFFFFFFFF not in NOT_READY or time.monotonic() > until:
                raise
        time.sleep(0.5)
admin = tried("Administrator")
for name, text in work["folders"].items():
    admin.mkdir(name)
    what = security.SECINFO_DACL | security.SECINFO_PROTECTED_DACL
    admin.set_acl(name, security.descriptor.from_sddl(text, security.dom_sid("S-1-5-21-1-2-3")), what)
found = {}
for user in work["users"]:
    try:
        me = tried(user)
    except NTSTATUSError:
        found[user] = None
        continue
    found[user] = {name: [] for name in work["folders"]}
    for name, given in found[user].items():
        for right in work["rights"]:
            try:
                me.close(me.create(name, DesiredAccess=right, CreateOptions=1, ShareAccess=7))
                given.append(True)
            except NTSTATUSError:
                given.append(False)
json.dump(found, sys.stdout)
"""


def is_there() -> bool:
    """Tell whether a domain can be made here."""
    has = all(shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin") for name in ("samba", "samba-tool"))
    return has and os.geteuid() == 0 and Path("/usr/share/samba/setup/provision.ldif").exists()


def _escape(text: str) -> str:
    """Escape a value of a distinguished name (RFC 4514 section 2.4)."""
    found = "".join(f"\\{letter}" if letter in ',+"\\<>;' else letter for letter in text)
    return f"\\{found}" if found.startswith("#") else found


class Domain:
    """A context in which the domain runs, with `users` and `groups` drawn by lot, and `tokens` as it tells them."""

    def __init__(self, rng: random.Random, users: int = 24, groups: int = 16) -> None:
        self.password = secrets.token_urlsafe(12) + "-Aa1"
        self.host = f"127.{rng.randrange(64, 128)}.{rng.randrange(256)}.{rng.randrange(2, 250)}"
        self._folder = Path(tempfile.mkdtemp(prefix="dom", dir="/tmp"))
        self._process: subprocess.Popen[bytes] | None = None
        self._rng, self._sizes = rng, (users, groups)
        self._has_address = False
        self.states: dict[str, str] = {}
        self.tokens: dict[str, tuple[str, list[str]]] = {}

    def __enter__(self) -> Domain:
        try:
            self._take_address()
            conf = self._folder / "etc" / "smb.conf"
            words = ("domain", "provision", "--use-rfc2307", "--server-role=dc", "--dns-backend=NONE", "--quiet")
            named = (
                "--realm=PELLOWMERE.EXAMPLE",
                "--domain=PELLOWMERE",
                "--host-name=hall",
                f"--host-ip={self.host}",
            )
            kept = (f"--adminpass={self.password}", f"--targetdir={self._folder}")
            subprocess.run(["samba-tool", *words, *named, *kept], check=True, capture_output=True)
            text = conf.read_text().replace(
                "[global]\n",
                f"""[global]
            interfaces = {self.host}/{32 if self._has_address else 8}
            bind interfaces only = yes
            vfs objects = dfs_samba4 acl_xattr
            acl_xattr:ignore system acls = yes
            ldap server require strong auth = no
            pid directory = {self._folder}
            ncalrpc dir = {self._folder}/ncalrpc
            """,
            )
            text = "\n".join(
                line for line in text.splitlines() if "server services" not in line and "log file" not in line
            )
            services = f"server services = ldap, s3fs, rpc, winbindd, kdc\nlog file = {self._folder}/log"
            share = self._folder / "share"
            share.mkdir()
            share.chmod(0o777)
            self._folder.chmod(0o755)
            conf.write_text(
                text.replace("[global]", f"[global]\n{services}", 1) + f"\n[office]\npath = {share}\nread only = no\n"
            )
            self.tokens = {name: (sid, sids) for name, (sid, sids) in self._ask(self._draw()).items()}
            # Its winbindd listens at a place that every server of the machine asks: so it has that place for itself.
            alone = 'mkdir -p /run/samba && mount -t tmpfs none /run/samba && exec "$@"'
            self._process = subprocess.Popen(
                ["unshare", "--mount", "sh", "-c", alone, "sh", "samba", "--interactive", "--model=single", f"--configfile={conf}"],
                env={**os.environ, "PATH": f"{os.environ.get('PATH', '')}:/usr/sbin"},
                stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
            until = time.monotonic() + 40
            waiting = [389, 445, 88]
            while waiting and time.monotonic() < until and self._process.poll() is None:
                with contextlib.suppress(OSError):
                    socket.create_connection((self.host, waiting[0]), 1).close()
                    waiting.pop(0)
                    continue
                time.sleep(0.1)
            if waiting:
                raise RuntimeError("the domain did not start")
            return self
        except BaseException:
            self.__exit__(None, None, None)
            raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._process is not None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait()
            self._end_helpers()
            if self._process.stdin is not None:
                self._process.stdin.close()
        if self._has_address:
            subprocess.run(["ip", "address", "del", f"{self.host}/32", "dev", "lo"], check=False)
            self._has_address = False
        shutil.rmtree(self._folder, ignore_errors=True)

    def try_share(self, folders: dict[str, str], rights: list[int]) -> dict[str, dict[str, list[bool]] | None]:
        """Make folders in the share ``office``, by name and list (SDDL), and try rights on each as each of its people.

        Nobody's rights are None who could not sign in.
        """
        work = {"conf": str(self._folder / "etc" / "smb.conf"), "password": self.password, "host": self.host,
                "folders": folders, "rights": rights, "users": sorted(self.states)}  # fmt: skip
        done = subprocess.run([_SYSTEM_PYTHON, "-c", _TRY], input=json.dumps(work), capture_output=True, text=True)
        assert done.returncode == 0, done.stderr[-2000:]
        found: dict[str, dict[str, list[bool]] | None] = json.loads(done.stdout)
        return found

    def ticket(self, folder: Path) -> dict[str, str]:
        """Get the administrator's ticket, and return the environment in which a program uses it.

        The library that passes tickets on is the system's own, linked into a folder of its own.
        """
        (folder / "site").mkdir()
        for name in ("gssapi", "decorator.py"):
            (folder / "site" / name).symlink_to(f"/usr/lib/python3/dist-packages/{name}")
        # What passes passwords on to Kerberos, which a ticket does without, is not among the system's packages.
        (folder / "site" / "krb5.py").write_text("class Principal: pass\nclass KeyTab: pass\nclass CCache: pass\n")
        (folder / "hosts").write_text(f"{self.host} hall.pellowmere.example hall\n")
        (folder / "krb5.conf").write_text(
            "[libdefaults]\ndefault_realm = PELLOWMERE.EXAMPLE\ndns_lookup_kdc = false\nrdns = false\n"
            f"[realms]\nPELLOWMERE.EXAMPLE = {{\n kdc = {self.host}:88\n}}\n"
        )
        env = {"KRB5_CONFIG": f"{folder}/krb5.conf", "KRB5CCNAME": f"{folder}/tickets", "PYTHONPATH": f"{folder}/site",
               "LD_PRELOAD": "libnss_wrapper.so", "NSS_WRAPPER_HOSTS": f"{folder}/hosts"}  # fmt: skip
        words = ["kinit", "Administrator@PELLOWMERE.EXAMPLE"]
        subprocess.run(
            words, input=f"{self.password}\n", text=True, capture_output=True, check=True, env=os.environ | env
        )
        return env

    def _end_helpers(self) -> None:
        """End what it started in sessions of their own: each names this folder's settings."""
        mine = f"--configfile={self._folder}/".encode()
        for entry in Path("/proc").iterdir():
            with contextlib.suppress(OSError):
                if entry.name.isdecimal() and mine in (entry / "cmdline").read_bytes():
                    os.kill(int(entry.name), signal.SIGKILL)

    def _take_address(self) -> None:
        """Give the loopback interface one more address: it listens at addresses of interfaces, and its ports are fixed."""
        added = subprocess.run(["ip", "address", "add", f"{self.host}/32", "dev", "lo"], capture_output=True)
        self._has_address = added.returncode == 0
        if not self._has_address:
            self.host = "127.0.0.1"

    def _ask(self, work: dict[str, object]) -> dict[str, list[object]]:
        done = subprocess.run(
            [_SYSTEM_PYTHON, "-c", _SCRIPT, self._folder], input=json.dumps({**work, "base": BASE}),
            capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr[-2000:]
        found: dict[str, list[object]] = json.loads(done.stdout)
        return found

    def tell(self) -> dict[str, tuple[str, list[str]]]:
        """Return of everybody the identifier and the groups, as the domain works them out now."""
        return {name: (sid, sorted(sids)) for name, (sid, sids) in self._ask({}).items()}

    def _draw(self) -> dict[str, object]:
        """Draw people with names of every kind, in states of every kind, and groups in groups, foreign members too."""
        rng = self._rng
        places = [f"OU=One,{BASE}", f"OU=Two,{BASE}"]
        add = [f"dn: {place}\nobjectClass: organizationalUnit\n" for place in places]
        people, change, passwords = [], [], []
        for number in range(self._sizes[0]):
            login = f"user{number:02d}"
            dn = f"CN={_escape(f'{rng.choice(_NAMES)} {number}')},{rng.choice(places)}"
            people.append(dn)
            add.append(f"dn: {dn}\nobjectClass: user\nsAMAccountName: {login}\nuid: other{number}\n")
            state = rng.choice(["open"] * 4 + ["disabled", "expired", "must change its password", "locked"])
            self.states[login] = state
            passwords.append([dn, self.password])
            lines = {
                "open": [("userAccountControl", "512")],
                "disabled": [("userAccountControl", "514")],
                "expired": [("userAccountControl", "512"), ("accountExpires", "131000000000000000")],
                "must change its password": [("userAccountControl", "512"), ("pwdLastSet", "0")],
                "locked": [
                    ("userAccountControl", "512"),
                    ("lockoutTime", str(int((time.time() + 11644473600) * 10**7))),
                ],
            }[state]
            change += [f"dn: {dn}\nchangetype: modify\nreplace: {key}\n{key}: {value}\n" for key, value in lines]
        # The name that its tickets are made out to, which a whole installation would register later.
        spn = "servicePrincipalName: ldap/hall.pellowmere.example"
        change.append(
            f"dn: CN=HALL,OU=Domain Controllers,{BASE}\nchangetype: modify\nadd: servicePrincipalName\n{spn}\n"
        )
        contact = f"CN=Some contact,{places[0]}"
        add.append(f"dn: {contact}\nobjectClass: contact\nmail: c@x.example\n")
        groups: list[tuple[str, int]] = []
        there = {"S-1-5-11", "S-1-5-4"}
        for number in range(self._sizes[1]):
            scope = rng.choice([_GLOBAL, _LOCAL, _LOCAL, _UNIVERSAL])
            kind = scope | (_SECURITY if rng.random() < 0.8 else 0)
            place = places[number % 2]
            # Pairs have one name in two places.
            dn = f"CN=group {number // 2},{place}"
            members = set(rng.sample([*people, contact], rng.randrange(4)))
            fits = [
                name
                for name, other in groups
                if scope == _LOCAL or (not other & _LOCAL and (scope == _UNIVERSAL or other & _GLOBAL))
            ]
            members |= set(rng.sample(fits, min(len(fits), rng.randrange(3))))
            if scope == _LOCAL:
                for sid in rng.sample(_FOREIGN, rng.choice([0, 0, 1])):
                    # Whoever comes from outside gets an entry by being named the first time.
                    members.add(f"CN={sid},{_OUTSIDE}" if sid in there else f"<SID={sid}>")
                    there.add(sid)
            lines = "".join(f"member: {member}\n" for member in sorted(members))
            signed = kind - (1 << 32) if kind & _SECURITY else kind
            add.append(f"dn: {dn}\nobjectClass: group\nsAMAccountName: group{number}\ngroupType: {signed}\n{lines}")
            groups.append((dn, kind))
        return {"add": add, "passwords": passwords, "change": change}
