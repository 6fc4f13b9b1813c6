"""A real directory server as judge: an ordinary process on loopback, with entries loaded from LDIF and TLS of its own."""

from __future__ import annotations

import base64
import datetime
import ipaddress
import random
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

BASE = "dc=pellowmere,dc=example"
ADMIN, PASSWORD = f"cn=reader,{BASE}", "only for this run"
_PATH = "/usr/sbin:/sbin:/usr/bin:/bin"
_CONF = """include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
pidfile {dir}/slapd.pid
TLSCertificateFile {dir}/cert.pem
TLSCertificateKeyFile {dir}/key.pem
security ssf=1
database mdb
suffix "{base}"
rootdn "cn=root,{base}"
rootpw "{password}"
directory {dir}/data
maxsize 104857600
{limits}
access to attrs=userPassword by anonymous auth by * none
access to * by users read
"""


def is_there() -> bool:
    return shutil.which("slapd", path=_PATH) is not None


def make_certificate(folder: Path, host: str = "localhost") -> None:
    """Make a certificate for a host, which is its own authority: cert.pem and key.pem."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    now = datetime.datetime.now(datetime.UTC)
    names = x509.SubjectAlternativeName([x509.DNSName(host), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))])
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    made = (
        made.serial_number(1)
        .not_valid_before(now - datetime.timedelta(1))
        .not_valid_after(now + datetime.timedelta(9))
    )
    cert = (
        made.add_extension(names, False)
        .add_extension(x509.BasicConstraints(True, None), True)
        .sign(key, hashes.SHA256())
    )
    (folder / "cert.pem").write_bytes(cert.public_bytes(serialization.Encoding.PEM))
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    (folder / "key.pem").write_bytes(secret)


def random_ldif(rng: random.Random, people: int, groups: int) -> tuple[str, dict[str, set[str]]]:
    """Return entries, and for every group its direct people; groups lie in groups, now and then in a ring."""
    lines = [f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: Pellowmere\ndc: pellowmere\n"]
    lines += [f"dn: ou={unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit}\n" for unit in ("people", "groups")]
    lines.append(
        f"dn: {ADMIN}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: {PASSWORD}\n"
    )
    for number in range(people):
        name = rng.choice(["Fenn", "Möss", "Dove  Lark", "Ó'Quill"]) + f" {number}"
        told = base64.b64encode(name.encode()).decode()
        entry = [f"dn: uid=p{number},ou=people,{BASE}", "objectClass: inetOrgPerson", "objectClass: posixAccount"]
        entry += [f"uid: p{number}", f"cn:: {told}", f"sn:: {told}", f"mail: p{number}@pellowmere.example"]
        entry += [
            f"uidNumber: {20000 + number}",
            f"gidNumber: {30000 + number % groups}",
            f"homeDirectory: /Homes/p{number}",
        ]
        if number % 7 == 0:
            entry.insert(1, "objectClass: shadowAccount")
            entry += [f"shadowExpire: {rng.choice([1, 50000])}"]
        lines.append("\n".join(entry) + "\n")
    direct: dict[str, set[str]] = {}
    for number in range(groups):
        chosen = rng.sample(range(people), rng.randint(1, 40))
        direct[f"g{number}"] = {f"p{one}" for one in chosen}
        members = [f"UID=p{one},  ou=people,{BASE}" if one % 3 else f"uid=p{one},ou=People,{BASE}" for one in chosen]
        members += [f"cn=g{rng.randrange(groups)},ou=groups,{BASE}" for _ in range(number % 4)]
        entry = [f"dn: cn=g{number},ou=groups,{BASE}", "objectClass: groupOfNames", f"cn: g{number}"]
        lines.append("\n".join(entry + [f"member: {one}" for one in dict.fromkeys(members)]) + "\n")
    return "\n".join(lines), direct


# So that pages are asked for, and all of them given.
_IN_PAGES = "sizelimit size.soft=100 size.hard=100 size.pr=60 size.prtotal=unlimited"


@contextmanager
def running(folder: Path, ldif: str, limits: str = _IN_PAGES, *, needs_tls: bool = True) -> Iterator[str]:
    """Run a directory with these entries, and limits in its own words; yield its address."""
    (folder / "data").mkdir()
    make_certificate(folder)
    conf = folder / "slapd.conf"
    text = _CONF if needs_tls else _CONF.replace("security ssf=1\n", "")
    conf.write_text(text.format(dir=folder, base=BASE, password=PASSWORD, limits=limits))
    (folder / "entries.ldif").write_text(ldif)
    env = {"PATH": _PATH}
    subprocess.run(
        ["slapadd", "-q", "-b", BASE, "-f", conf, "-l", folder / "entries.ldif"],
        check=True,
        env=env,
        capture_output=True,
    )
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        url = f"ldap://127.0.0.1:{probe.getsockname()[1]}"
    server = subprocess.Popen(["slapd", "-d", "0", "-h", url, "-f", conf], env=env, stderr=subprocess.DEVNULL)
    try:
        for _ in range(200):
            try:
                socket.create_connection(("127.0.0.1", int(url.rpartition(":")[2])), 1).close()
                break
            except OSError:
                time.sleep(0.05)
        yield url
    finally:
        server.terminate()
        server.wait()


def export(folder: Path) -> str:
    done = subprocess.run(
        ["slapcat", "-f", folder / "slapd.conf"], check=True, env={"PATH": _PATH}, capture_output=True
    )
    return done.stdout.decode()
