"""The account files of a POSIX system: passwd(5), group(5) and, when given, shadow(5).

Lines that cannot be read are collected as faults with their line number, and the rest is still read.
Nothing of a password is kept: of shadow only the expiry date is looked at.
"""

from __future__ import annotations

from datetime import date

from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.errors import Fault

__all__ = ["parse_group", "parse_passwd", "parse_shadow"]

_MOST, _DIGITS = 0xFFFFFFFE, 10


def _is_ident(text: str) -> bool:
    # A number of thousands of digits is not even looked at.
    return text.isascii() and text.isdecimal() and len(text) <= _DIGITS and int(text) <= _MOST


def _fault(where: str, number: int, parts: list[str], expected: str) -> Fault:
    # The second field may be a password's hash: it is not told, whatever else is wrong with the line.
    message = ":".join([*parts[:1], "…", *parts[2:4]]) if len(parts) > 3 else f"{len(parts)} fields"
    return Fault(f"{where}:{number}", repr(message), expected)


def _lines(text: str) -> list[tuple[int, str]]:
    numbered = enumerate(text.split("\n"), start=1)
    return [(number, line) for number, line in numbered if line.strip() and not line.startswith("#")]


def parse_passwd(text: str, where: str) -> tuple[list[Account], list[Fault]]:
    """Parse passwd(5); the first of several lines with one login counts, as getpwnam(3) has it."""
    accounts: dict[str, Account] = {}
    faults: list[Fault] = []
    for number, line in _lines(text):
        parts = line.split(":")
        if len(parts) != 7 or not parts[0] or not _is_ident(parts[2]) or not _is_ident(parts[3]):
            faults.append(_fault(where, number, parts, "login:x:uid:gid:name:home:shell"))
            continue
        login, _, uid, gid, gecos, home, shell = parts
        name = gecos.split(",")[0]
        account = Account(login, str(int(uid)), str(int(gid)), name, home=home, shell=shell)
        accounts.setdefault(login, account)
    return list(accounts.values()), faults


def parse_group(text: str, where: str) -> tuple[list[Group], list[Fault]]:
    """Parse group(5); several lines with one name are kept, as getgrouplist(3) reads them all."""
    groups: list[Group] = []
    faults: list[Fault] = []
    for number, line in _lines(text):
        parts = line.split(":")
        if len(parts) != 4 or not parts[0] or not _is_ident(parts[2]):
            faults.append(_fault(where, number, parts, "name:x:gid:login,login"))
            continue
        members = tuple(login for login in parts[3].split(",") if login)
        groups.append(Group(parts[0], str(int(parts[2])), members))
    return groups, faults


def parse_shadow(text: str, where: str, today: date) -> tuple[dict[str, AccountState], list[Fault]]:
    """Parse shadow(5) for its eighth field, the day on which an account expires, and nothing else."""
    states: dict[str, AccountState] = {}
    faults: list[Fault] = []
    for number, line in _lines(text):
        parts = line.split(":")
        if len(parts) != 9 or not parts[0] or (parts[7] and not (parts[7].isascii() and parts[7].isdecimal())):
            faults.append(Fault(f"{where}:{number}", "a line that is not one of shadow(5)", "nine fields"))
            continue
        # Days since 1970: a day that no calendar has is one that never comes.
        if parts[7] and len(parts[7]) <= _DIGITS and int(parts[7]) <= (today - date(1970, 1, 1)).days:
            states[parts[0]] = AccountState.EXPIRED
    return states, faults
