"""People and groups: a real directory read over LDAP and its LDIF export say the same; CSV tables; malformed input."""

from __future__ import annotations

import csv
import io
import itertools
import json
import random
import socket
import subprocess
import threading
import warnings
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from ldap3.core.exceptions import LDAPOperationResult

from judges import ldap
from neatledger.carriers.contract import CarrierContext
from neatledger.carriers.directory import DirectoryCarrier
from neatledger.core.people.credentials import Credentials
from neatledger.formats.directory import accounts_of, normal_name
from neatledger.formats.ldif import parse_ldif
from neatledger.sources import ldapaccounts
from neatledger.sources.ldapaccounts import in_words


def plan(folder: Path, **systems: object) -> Path:
    (folder / "office.yaml").write_text(json.dumps({"office": "X", "systems": systems}))
    return folder


def rows_of(run, where: Path, system: str, *words: str) -> list[dict[str, str]]:
    rows = csv.DictReader(io.StringIO(run(*words, "--office", where, "--format", "csv").stdout))
    return [{key: value.replace(f"{system}:", "") for key, value in row.items() if key != "system"} for row in rows]


@pytest.mark.judge
def test_a_referral_is_told_and_never_followed(run, tmp_path, monkeypatch) -> None:
    text, _ = ldap.random_ldif(random.Random(8), 50, 2)
    home = tmp_path / "ldap"
    home.mkdir()
    with socket.create_server(("127.0.0.1", 0)) as elsewhere:
        elsewhere.settimeout(0)
        other = f"ldap://127.0.0.1:{elsewhere.getsockname()[1]}/ou=else,{ldap.BASE}"
        text += f"\ndn: ou=else,{ldap.BASE}\nobjectClass: referral\nobjectClass: extensibleObject\nou: else\nref: {other}\n"
        with ldap.running(home, text) as url:
            live = {"url": url, "base": ldap.BASE, "user": ldap.ADMIN, "page": 50, "ca": str(home / "cert.pem")}
            monkeypatch.setenv("NEATLEDGER_PASSWORD_LIVE", ldap.PASSWORD)
            where = plan(tmp_path, live={"source": "directory", "accounts": {"ldap": live}})
            told = run("count", "--not-seen", "--office", where).stdout
            assert "1 thing could not be seen" in told and other.split("?")[0] in told and "was not asked" in told
            plan(
                where,
                live={"source": "directory", "accounts": {"ldap": live | {"base": f"ou=x,ou=else,{ldap.BASE}"}}},
            )
            refused = run("count", "--office", where, status=2).stderr
            assert "refers to another" in refused and refused.count("\n") == 1 and ldap.PASSWORD not in refused
        with pytest.raises(BlockingIOError):
            elsewhere.accept()


@pytest.mark.judge
@pytest.mark.parametrize(("limits", "is_whole"), [("sizelimit 60", True), ("sizelimit 3", False)])
def test_a_limit_of_the_directory_is_asked_around_or_told(run, tmp_path, monkeypatch, limits, is_whole) -> None:
    """Its own limit keeps no people and no groups back unseen (RFC 4511 section 4.1.9, results 3, 4 and 11)."""
    text, _ = ldap.random_ldif(random.Random(5), 150, 5)
    home = tmp_path / "ldap"
    home.mkdir()
    monkeypatch.setattr(ldapaccounts, "_MOST_ASKED", 200)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_LIVE", ldap.PASSWORD)
    with ldap.running(home, text, limits) as url:
        live = {"url": url, "base": ldap.BASE, "user": ldap.ADMIN, "ca": str(home / "cert.pem")}
        where = plan(tmp_path, live={"source": "directory", "accounts": {"ldap": live}})
        told = run("count", "--not-seen", "--office", where, status=None).stdout
        tried = run("connect", "--test", "--office", where, status=None).stdout
        people, groups = (rows_of(run, where, "live", each) for each in ("people", "groups"))
        if is_whole:
            assert len(people) == 150 and len(groups) == 5 and "could not be seen" not in told
            return
        assert len(people) < 150 and "limit on size" in told and "could not be seen" in told
        assert "limit on size" in tried and "all work" not in tried
        # What was kept back was not there before either: nobody is told to be gone, or to have come.
        run("count", "--office", where)
        assert not json.loads(run("changes", "--office", where, "--format", "json", status=None).stdout)["rows"]


@contextmanager
def cutting(port: int, cuts: Sequence[int]) -> Iterator[int]:
    """Pass connections on to a port; cut off each of the first ones after so many bytes of answers."""

    def pass_on(source: socket.socket, target: socket.socket, most: int | None) -> None:
        with suppress(OSError):
            while (data := source.recv(4096)) and (most is None or most > 0):
                target.sendall(data if most is None else data[:most])
                most = None if most is None else most - len(data)
        for one in (source, target):
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            with suppress(OSError):
                for most in itertools.chain(cuts, itertools.repeat(None)):
                    near, far = server.accept()[0], socket.create_connection(("127.0.0.1", port))
                    threading.Thread(target=pass_on, args=(near, far, None), daemon=True).start()
                    threading.Thread(target=pass_on, args=(far, near, most), daemon=True).start()

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]
        server.shutdown(socket.SHUT_RDWR)


@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
@pytest.mark.judge
def test_a_directory_that_goes_away_is_read_again_or_not_kept(run, tmp_path, monkeypatch) -> None:
    text, _ = ldap.random_ldif(random.Random(9), 400, 12)
    home = tmp_path / "ldap"
    home.mkdir()
    monkeypatch.setenv("NEATLEDGER_PASSWORD_LIVE", ldap.PASSWORD)
    monkeypatch.setattr(ldapaccounts, "_WAITS", (0.05, 0.1, 0.2))
    with ldap.running(home, text) as url:
        live = {"base": ldap.BASE, "user": ldap.ADMIN, "page": 50, "ca": str(home / "cert.pem")}

        def people(port: int, name: str) -> int:
            (tmp_path / name).mkdir()
            asked = live | {
                "url": f"ldaps://127.0.0.1:{port}" if url.startswith("ldaps") else f"ldap://127.0.0.1:{port}"
            }
            where = plan(tmp_path / name, live={"source": "directory", "accounts": {"ldap": asked}})
            run("count", "--office", where)
            return len(rows_of(run, where, "live", "people"))

        port = int(url.rpartition(":")[2])
        whole = people(port, "whole")
        assert whole == 400
        # Cut while signing in it is refused at once; cut among the answers it is read again, whole.
        with cutting(port, [9_000, 20_000]) as other:
            assert people(other, "cut") == whole
        with cutting(port, [9_000] * 9) as other:
            (tmp_path / "gone").mkdir()
            asked = live | {"url": url.rpartition(":")[0] + f":{other}"}
            where = plan(tmp_path / "gone", live={"source": "directory", "accounts": {"ldap": asked}})
            told = run("count", "--office", where, status=2).stderr
            assert "cannot read the directory" in told
            assert "there is no count" in run("people", "--office", where, status=2).stderr


# The LDAP library leaves the socket of a connection that was refused to the collector.
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
@pytest.mark.judge
def test_a_live_directory_and_its_export_are_the_same(run, tmp_path, monkeypatch) -> None:
    text, direct = ldap.random_ldif(random.Random(7), 2500, 90)
    home = tmp_path / "ldap"
    home.mkdir()
    with ldap.running(home, text) as url:
        live = {"url": url, "base": ldap.BASE, "user": ldap.ADMIN, "page": 50, "ca": str(home / "cert.pem")}
        (tmp_path / "a").mkdir()
        where = plan(tmp_path / "a", live={"source": "directory", "accounts": {"ldap": live}})
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LIVE", ldap.PASSWORD)
        done = run("count", "--office", where)
        assert ldap.PASSWORD not in done.stdout + done.stderr and "all was seen" in done.stdout
        plan(where, live={"source": "directory", "accounts": {"ldap": live | {"ca": "missing.pem"}}})
        assert "missing.pem" in run("count", "--office", where, status=2).stderr
        plan(where, live={"source": "directory", "accounts": {"ldap": live | {"allow-plain": True}}})
        assert "lets nobody sign in without TLS" in run("count", "--office", where, status=2).stderr
        plan(where, live={"source": "directory", "accounts": {"ldap": live}})
    refused = run("count", "--office", where, status=2).stderr
    assert url in refused and refused.count("\n") == 1
    (tmp_path / "b").mkdir()
    (tmp_path / "b" / "people.ldif").write_text(ldap.export(home))
    other = plan(tmp_path / "b", file={"source": "directory", "accounts": {"ldif": "people.ldif"}})
    run("count", "--office", other)
    for words in (("people", "--services"), ("groups", "--all")):
        pairs = zip(rows_of(run, where, "live", *words), rows_of(run, other, "file", *words), strict=True)
        for live_row, row in pairs:
            assert {**live_row, "services": ""} == {**row, "services": ""}
    people = rows_of(run, where, "live", "people", "--services")
    assert len(people) == 2500 and {"open", "expired"} == {row["state"] for row in people}
    accounts, groups = accounts_of(parse_ldif(text, "x")[0], date(2026, 11, 23), by_sid=False)
    assert {group.name: set(group.members) for group in groups} == direct and len(accounts) == 2500


@given(st.text(max_size=300) | st.text(alphabet="dn:= \n#<;aÿ\t", max_size=120))
def test_ldif_parsing_is_total(text) -> None:
    entries, faults = parse_ldif(text, "x.ldif")
    accounts_of(entries, date(2026, 1, 1), by_sid=True)
    assert all(str(fault).startswith("x.ldif:") for fault in faults)


@given(st.dictionaries(st.sampled_from(["uid", "cn", "mail", "uidNumber"]), st.text(max_size=20), min_size=1))
def test_ldif_values_come_back_folded_or_encoded(values) -> None:
    import base64

    lines = [f"dn:: {base64.b64encode(b'uid=x').decode()}"]
    lines += [f"{key}:: {base64.b64encode(value.encode()).decode()}" for key, value in values.items()]
    folded = "\n".join("\n ".join(line[at : at + 9] or " " for at in range(0, len(line), 9)) for line in lines)
    entries, faults = parse_ldif(f"version: 1\n# note\n{folded}\n", "x")
    assert not faults and {key.lower(): value for key, value in values.items()} == {
        key: found[0].decode() for key, found in entries[0].attributes.items()
    }


def test_names_in_a_directory_are_equal_but_for_case_and_spaces() -> None:
    assert normal_name("UID=Ada,  OU=People,dc=x") == normal_name("uid=ada,ou=people,DC=x")
    assert normal_name(r"cn=a\,b,dc=x") != normal_name("cn=a,cn=b,dc=x")


WINDOWS = """dn: CN=Ada Lark,CN=Users,DC=pellowmere,DC=example
objectClass: top
objectClass: person
objectClass: user
cn: Ada Lark
sAMAccountName: ada
mail: ada@pellowmere.example
objectSid:: AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAAUQQAAA==
primaryGroupID: 513
userAccountControl: 514
lastLogonTimestamp: 134000000000000000
accountExpires: 9223372036854775807

dn: CN=Bo,CN=Users,DC=pellowmere,DC=example
objectClass: user
sAMAccountName: bo
objectSid:: AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAAUgQAAA==
primaryGroupID: 513
userAccountControl: 512
accountExpires: 131000000000000000

dn: CN=PC7,CN=Computers,DC=pellowmere,DC=example
objectClass: user
objectClass: computer
sAMAccountName: PC7$

dn: CN=Vets,CN=Users,DC=pellowmere,DC=example
objectClass: group
cn: Vets
objectSid:: AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAA0QcAAA==
member: cn=ada lark, cn=users,dc=PELLOWMERE,dc=example
member: CN=Gone,CN=Users,DC=pellowmere,DC=example

dn: CN=Clinic,CN=Users,DC=pellowmere,DC=example
objectClass: group
cn: Clinic
objectSid: S-1-5-21-1-2-3-2002
member: CN=Vets,CN=Users,DC=pellowmere,DC=example
"""


def test_a_directory_with_security_identifiers() -> None:
    entries, faults = parse_ldif(WINDOWS.replace("\n", "\r\n"), "x.ldif")
    accounts, groups = accounts_of(entries, date(2026, 11, 23), by_sid=True)
    told = [(one.login, one.ident, one.primary, one.state.value, one.email, one.last_seen) for one in accounts]
    assert not faults and told == [
        ("ada", "S-1-5-21-1-2-3-1105", "S-1-5-21-1-2-3-513", "disabled", "ada@pellowmere.example", date(2025, 8, 18)),
        ("bo", "S-1-5-21-1-2-3-1106", "S-1-5-21-1-2-3-513", "expired", "", None),
    ]
    assert [(one.name, one.ident, one.members, one.nested) for one in groups] == [
        ("Clinic", "S-1-5-21-1-2-3-2002", (), ("S-1-5-21-1-2-3-2001",)),
        ("Vets", "S-1-5-21-1-2-3-2001", ("ada",), ()),
    ]


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("dn: uid=x\nuid: x\njpegPhoto:< file:///etc/passwd\n", "stands in another file"),
        ("dn: uid=x\nchangetype: delete\n", "a record of a change"),
        ("uid: x\n", "begins with 'uid'"),
        ("dn: uid=x\nno colon here\n", "'no colon here'"),
        ("dn: uid=x\nuid:: %%%\n", "not base64"),
    ],
)
def test_faults_of_ldif_are_told_with_their_line(text, found) -> None:
    _, faults = parse_ldif(text, "x.ldif")
    assert len(faults) == 1 and found in str(faults[0]) and str(faults[0]).startswith("x.ldif:")


EXPORT = """\
# extended LDIF
#
# base <dc=x> with scope subtree

dn: cn=Bo \\#7,ou=a,dc=x
objectClass: person
cn: Bo #7
uid: bo
sAMAccountName: bosam

dn: cn=team,ou=a,dc=x
objectClass: groupOfNames
cn: team
member: cn=Bo \\#7,ou=a,dc=x

dn: cn=team,ou=b,dc=x
objectClass: groupOfUniqueNames
cn: team
uniqueMember: cn=Bo \\#7,ou=a,dc=x#'0101'B
uniqueMember: cn=Nowhere,ou=z,dc=x

dn: CN=Big,OU=a,DC=x
objectClass: group
sAMAccountName: big
groupType: -2147483646
member;range=0-1499: cn=Bo \\#7,ou=a,dc=x

dn: CN=Mail,OU=a,DC=x
objectClass: group
sAMAccountName: mail
groupType: 2
member;range=0-0: cn=Bo \\#7,ou=a,dc=x
member;range=1-*: cn=Ada,ou=a,dc=x

dn: CN=Local,OU=a,DC=x
objectClass: group
sAMAccountName: local
groupType: -2147483644
member: CN=S-1-5-11,CN=ForeignSecurityPrincipals,DC=x
member: CN=S-1-5-4,CN=ForeignSecurityPrincipals,DC=x
member: CN=S-1-5-21-9-8-7-1105,CN=ForeignSecurityPrincipals,DC=x
member: CN=Some contact,OU=a,DC=x

dn: CN=Some contact,OU=a,DC=x
objectClass: person
objectClass: contact
cn: Some contact

# search result
search: 2
result: 0 Success
ref: ldap://elsewhere.example/dc=y

# numResponses: 8
# numEntries: 7
"""


def test_an_exports_members_are_tied_or_told_as_not_tied() -> None:
    entries, faults = parse_ldif(EXPORT, "x.ldif")
    accounts, groups = accounts_of(entries, date(2026, 11, 28), by_sid=False)
    assert [account.login for account in accounts] == ["bosam"]
    found = {group.name: (group.members, group.nested, group.untold) for group in groups}
    assert found == {
        "team (ou=a,dc=x)": (("bosam",), (), ()),
        "team (ou=b,dc=x)": (("bosam",), (), ("cn=Nowhere,ou=z,dc=x",)),
        "big": (("bosam",), (), ("*",)),
        "local": ((), (), ("S-1-5-11", "S-1-5-21-9-8-7-1105")),
    }
    assert len({group.ident for group in groups}) == 4
    assert [fault.found for fault in faults] == [
        "a part of the values of member (range=0-1499)",
        "a part of the directory that is said to be at 'ldap://elsewhere.example/dc=y'",
    ]


NOW = "134000000000000000"  # in August 2025
STATES = [
    ({"userAccountControl": "514"}, "disabled"),
    ({"lockoutTime": NOW}, "unknown"),
    ({"lockoutTime": NOW, "msDS-User-Account-Control-Computed": "16"}, "locked"),
    ({"lockoutTime": NOW, "msDS-User-Account-Control-Computed": "0"}, "open"),
    ({"pwdLastSet": "0"}, "must change its password"),
    ({"pwdLastSet": "0", "userAccountControl": "66048"}, "open"),
    ({"pwdLastSet": NOW, "msDS-User-Account-Control-Computed": "8388608"}, "password expired"),
    ({"pwdLastSet": NOW}, "open"),
    ({"accountExpires": NOW}, "expired"),
]


@pytest.mark.parametrize(("told", "state"), STATES, ids=range(len(STATES)))
def test_states_of_accounts_in_a_domain(told, state) -> None:
    lines = "".join(f"{key}: {value}\n" for key, value in {"userAccountControl": "512", **told}.items())
    entries, _ = parse_ldif(f"dn: cn=a,dc=x\nobjectClass: user\nsAMAccountName: a\n{lines}", "x")
    (account,), _ = accounts_of(entries, date(2026, 11, 28), by_sid=True)
    assert account.state.value == state


def test_the_policy_of_a_domain_says_how_long_locking_and_passwords_hold() -> None:
    domain = "dn: dc=x\nobjectClass: domainDNS\nlockoutDuration: {}\nmaxPwdAge: {}\n\n"
    user = f"dn: cn=a,dc=x\nobjectClass: user\nsAMAccountName: a\nlockoutTime: {NOW}\npwdLastSet: {NOW}\n"
    day = 864_000_000_000
    for lockout, age, state in (
        (-day, 0, "open"), (-(1 << 63), 0, "locked"), (0, 0, "locked"), (-day * 4000, 0, "locked"),
        (-day, -day * 42, "password expired"), (-day, -day * 4000, "open"),
    ):  # fmt: skip
        entries, _ = parse_ldif(domain.format(lockout, age) + user, "x")
        (account,), _ = accounts_of(entries, date(2026, 11, 28), by_sid=True)
        assert account.state.value == state, (lockout, age)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("- 49 - invalidCredentials - None - 8009030C: LdapErr: DSID-0C0904DC, comment: AcceptSecurityContext error, data 775, v1db1", "locked"),
        ("80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data 773, v23f0", "must change"),
        ("automatic bind not successful - invalidCredentials", "the name or the password is wrong"),
        ("LDAPNoSuchObjectResult - 32 - noSuchObject", "nothing of the name of its base"),
        ("socket ssl wrapping error: certificate verify failed: self-signed certificate (_ssl.c:992) {'subject': ((('commonName', 'x'),),)}", "self-signed certificate"),
    ],
)  # fmt: skip
def test_what_a_sign_in_that_fails_means(said, told) -> None:
    words, hint = in_words(RuntimeError(said))
    assert told in words and len(words) < 130 and ("TLS" not in hint or "certificate" not in words)
    assert "{" not in words and "plain" not in hint


class InParts:
    """A directory that gives the values of an attribute in parts of so many (MS-ADTS 3.1.1.3.1.3.3)."""

    def __init__(self, values: list[bytes], most: int, gives_up_at: int | None = None) -> None:
        self.values, self.most, self.gives_up_at = values, most, gives_up_at
        self.response: list[dict[str, object]] = []

    def part(self, first: int) -> dict[str, list[bytes]]:
        end = first + self.most
        is_last = end >= len(self.values)
        name = f"member;range={first}-{'*' if is_last else end - 1}"
        return {name: self.values[first:end]}

    def search(self, name: str, _: str, scope: str, attributes: list[str]) -> None:
        (wanted,) = attributes
        first = int(wanted.removeprefix("member;range=").removesuffix("-*"))
        gone = self.gives_up_at is not None and first >= self.gives_up_at
        self.response = [] if gone else [{"type": "searchResEntry", "raw_attributes": self.part(first)}]


@pytest.mark.parametrize("count", [0, 1, 4, 5, 6, 10, 23])
def test_values_in_parts_are_asked_for_to_the_last_or_the_list_is_cut(count: int) -> None:
    values = [f"cn=u{number}".encode() for number in range(count)]
    whole = InParts(values, 5)
    told = whole.part(0) if count > 5 else {"member": values}
    entry = ldapaccounts.read_entry(whole, "cn=g", told | {"cn": [b"g"]})
    assert entry.attributes["member"] == values and entry.attributes["cn"] == [b"g"] and not entry.is_cut
    if count > 10:
        cut = ldapaccounts.read_entry(InParts(values, 5, gives_up_at=10), "cn=g", told)
        assert cut.is_cut and cut.attributes["member"] == values[:10]


POLICIES = f"""\
dn: cn=locking,{ldap.BASE}
objectClass: device
objectClass: pwdPolicy
cn: locking
pwdAttribute: userPassword
pwdLockout: TRUE

dn: cn=free,{ldap.BASE}
objectClass: device
objectClass: pwdPolicy
cn: free
pwdAttribute: userPassword
pwdLockout: FALSE
"""
PERSON = """\
dn: uid={login},ou=people,{base}
objectClass: inetOrgPerson
uid: {login}
cn: {login}
sn: {login}
userPassword: secret of {login}
pwdPolicySubentry: cn={policy},{base}
"""
LEAVERS = """\
office: Test
systems:
  people:
    source: directory
    may-change: true
    accounts: {{ldap: {{url: "{url}", base: "{base}", ca: cert.pem, user: "cn=root,{base}"}}}}
people:
  sedge: {{name: Sedge, end: 2026-06-30, accounts: {{people: sedge}}}}
  weaver: {{name: Weaver, end: 2026-06-30, accounts: {{people: weaver}}}}
groups: {{}}
folders: {{}}
"""


@pytest.mark.judge
def test_a_closed_account_does_not_sign_in(tmp_path: Path, run, monkeypatch) -> None:
    """By the switch that the directory's own policy honours; where none closes it, a person is told what does."""
    monkeypatch.setenv("NEATLEDGER_PASSWORD_PEOPLE", ldap.PASSWORD)
    monkeypatch.setenv("LDAPTLS_REQCERT", "never")
    people = [
        PERSON.format(login=one, policy=two, base=ldap.BASE)
        for one, two in (("sedge", "locking"), ("weaver", "free"))
    ]
    entries = "\n".join([ldap.random_ldif(random.Random(1), 50, 1)[0], POLICIES, *people])
    with ldap.running(tmp_path, entries, f'overlay ppolicy\nppolicy_default "cn=free,{ldap.BASE}"') as url:
        ask = ["ldapwhoami", "-x", "-ZZ", "-H", url]

        def signs_in(login: str) -> bool:
            who = ["-D", f"uid={login},ou=people,{ldap.BASE}", "-w", f"secret of {login}"]
            return subprocess.run([*ask, *who], capture_output=True).returncode == 0

        (tmp_path / "office.yaml").write_text(LEAVERS.format(url=url, base=ldap.BASE))
        run("count", "--quiet", "--office", tmp_path)
        assert signs_in("sedge") and signs_in("weaver")
        listed = run("mend", "--office", tmp_path, status=1).stdout
        assert "the tool can make 1." in listed and "nothing in its entry closes it" in listed
        texts = run("mend", "--script", "--office", tmp_path, status=1).stdout
        run("mend", "--carry-out", "--yes", "--expect", "1", "--office", tmp_path)
        assert not signs_in("sedge") and signs_in("weaver")
        run("mend", "--undo", "--yes", "--expect", "1", "--office", tmp_path)
        assert signs_in("sedge")
        # The printed records close both: the other one by taking its password away.
        words = ["ldapmodify", "-x", "-ZZ", "-H", url, "-D", f"cn=root,{ldap.BASE}", "-w", ldap.PASSWORD]
        subprocess.run(words, input=texts, text=True, capture_output=True, check=True)
        assert not signs_in("sedge") and not signs_in("weaver")
        run("count", "--quiet", "--office", tmp_path)
        states = {
            one["login"]: one["state"]
            for one in json.loads(run("people", "--accounts", "--format", "json", "--office", tmp_path).stdout)[
                "rows"
            ]
        }
        assert states["sedge"] != "open"


@pytest.mark.judge
@pytest.mark.seeds(2)
def test_an_entry_that_the_directory_would_refuse_is_known_before(seed: int, tmp_path: Path, monkeypatch) -> None:
    """Random entries, judged by the schema that the directory tells, and by adding them."""
    rng = random.Random(seed)
    monkeypatch.setenv("LDAPTLS_REQCERT", "never")
    base = {
        "objectClass": [b"inetOrgPerson", b"posixAccount"],
        "cn": [b"Ada"], "sn": [b"Lark"], "uidNumber": [b"4001"], "gidNumber": [b"4001"], "homeDirectory": [b"/Homes/ada"],
    }  # fmt: skip
    changes = [
        ("uidNumber", [b"hugo"]), ("uidNumber", [b"1", b"2"]), ("sn", []), ("homeDirectory", []), ("gecos", ["Ädä".encode()]),
        ("loginShell", [b"/bin/sh"]), ("member", [b"cn=x"]), ("objectClass", [b"posixAccount"]), ("mail", [b"ada@x.example"]),
        ("objectClass", [b"inetOrgPerson", b"posixAccount", b"groupOfNames"]), ("objectClass", [b"inetOrgPerson", b"nobody"]),
        ("objectClass", [b"top", b"person", b"organizationalPerson", b"inetOrgPerson", b"posixAccount", b"shadowAccount"]),
        ("shadowExpire", [b"1"]), ("shadowExpire", [b""]), ("displayName", [b""]), ("telephoneNumber", [b"12 34"]), ("o", [b"x"]),
        ("objectClass", [b"account", b"posixAccount"]), ("gidNumber", [b"-7"]), ("gidNumber", [b"07"]), ("nothing", [b"x"]),
    ]  # fmt: skip
    with ldap.running(tmp_path, ldap.random_ldif(random.Random(1), 50, 1)[0]) as url:
        setting = {"url": url, "base": ldap.BASE, "ca": "cert.pem", "user": f"cn=root,{ldap.BASE}"}
        context = CarrierContext(
            "people", tmp_path, {"source": "directory", "accounts": {"ldap": setting}},
            lambda user, _: Credentials(user, ldap.PASSWORD),
        )  # fmt: skip
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            opened = DirectoryCarrier(context)
        with closing(opened) as carrier:
            agreed = set()
            for number in range(60):
                entry = {**base, **dict(rng.sample(changes, rng.choice([0, 1, 1, 2])))}
                entry = {name: values for name, values in entry.items() if values} | {"uid": [b"n%d" % number]}
                faults = list(carrier._schema.faults(entry))
                name = f"uid=n{number},ou=people,{ldap.BASE}"
                try:
                    carrier._connection.add(name, attributes=entry)
                except LDAPOperationResult as refused:
                    assert faults, (entry, refused.description, refused.message)
                else:
                    assert not faults, (entry, faults)
                agreed.add(bool(faults))
            assert agreed == {True, False}


def test_a_wrong_password_is_known_before_anything_is_asked(tmp_path: Path, run, monkeypatch) -> None:
    entries = "\n".join(
        [
            ldap.random_ldif(random.Random(1), 50, 1)[0],
            POLICIES,
            PERSON.format(login="sedge", policy="locking", base=ldap.BASE),
        ]
    )
    with ldap.running(tmp_path, entries, "overlay ppolicy") as url:
        monkeypatch.setenv("NEATLEDGER_PASSWORD_PEOPLE", ldap.PASSWORD)
        (tmp_path / "office.yaml").write_text(LEAVERS.format(url=url, base=ldap.BASE))
        run("count", "--quiet", "--office", tmp_path)
        monkeypatch.setenv("NEATLEDGER_PASSWORD_PEOPLE", "another one")
        told = run("mend", "--carry-out", "--yes", "--expect", "1", "--office", tmp_path, status=2).stderr
        assert "nothing that the tool could make" in told and "invalidCredentials" in told
        assert not json.loads(run("mend", "--log", "--format", "json", "--office", tmp_path).stdout)["rows"]
