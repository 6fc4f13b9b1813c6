"""People from accounts: those of several systems that are surely one person's joined, doubtful ones told.

One piece of evidence that no namesake could share joins by itself (a directory's identifier, an address that one
account a system has); a name or a login joins only where the other does not speak against it.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain

from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import CLASSES, Kind

__all__ = ["Doubt", "DraftPerson", "draft_people", "login_forms"]

_CUT = 6  # letters of a login that is cut
_LONG = 20  # characters of an identifier that no other directory gives


@dataclass(frozen=True, slots=True)
class DraftPerson:
    """One person: what the plan would say of them, and why accounts of several systems are theirs."""

    id: str
    name: str
    email: str
    kind: Kind
    principals: tuple[Principal, ...]
    because: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Doubt:
    """Two accounts that may be one person's, and why that is not sure."""

    one: Principal
    other: Principal
    because: str


def draft_people(principals: Iterable[Principal], taken: Iterable[str]) -> tuple[list[DraftPerson], list[Doubt]]:
    """Return the people behind accounts that the plan gives to nobody, and the doubtful pairs.

    `taken` are ids that stand for something else already. Accounts of services are nobody's.
    """
    free = [one for one in principals if not one.is_planned and one.kind is not Kind.SERVICE]
    joined = _Joined(free)
    joined.join()
    ids = _Ids(taken)
    people = [_person(mine, why, ids) for mine, why in joined.clusters()]
    return people, joined.doubts


def login_forms(name: str) -> frozenset[str]:
    """Return the logins that offices make of a name: ``jhale``, ``jonas.hale``, ``hale`` and the like."""
    words = [_plain(word) for word in name.split() if _plain(word)]
    if len(words) < 2:
        return frozenset(words)
    first, last = words[0], words[-1]
    forms = {first, last, f"{first}{last}", f"{last}{first}", f"{first[0]}{last}", f"{last}{first[0]}"}
    forms.add(f"{first}{last[0]}")
    for sign in ".-_":
        forms |= {
            f"{first}{sign}{last}",
            f"{first[0]}{sign}{last}",
            f"{last}{sign}{first}",
            f"{last}{sign}{first[0]}",
        }
    return frozenset(forms)


def _tells_last(login: str, name: str) -> bool:
    """Tell whether a login is made of the first and the last part of a name, and not of one of them alone."""
    words = [_plain(word) for word in name.split() if _plain(word)]
    return len(words) > 1 and login in login_forms(name) - {words[0], words[-1], f"{words[0]}{words[-1][0]}"}


def _spells_out(login: str, name: str) -> bool:
    """Tell whether a login is the whole first and the whole last part of a name, with a sign between them."""
    words = [_plain(word) for word in name.split() if _plain(word)]
    if len(words) < 2 or min(len(words[0]), len(words[-1])) < 2:
        return False
    pairs = ((words[0], words[-1]), (words[-1], words[0]))
    return any(login == f"{one}{sign}{other}" for one, other in pairs for sign in ".-_")


def _local(email: str) -> str:
    """Return what stands before the sign of an address, without numbers at its end."""
    return _plain(email.partition("@")[0].rstrip("0123456789"), "._-")


def _fits(login: str, forms: frozenset[str]) -> bool:
    """Tell whether a login is made of a name, or is the beginning of what is: systems cut long ones."""
    return login in forms or (len(login) >= _CUT and any(form.startswith(login) for form in forms))


def _plain(text: str, signs: str = "") -> str:
    """Return the letters and digits of a text without accents, in small ones, and some signs where they stand."""
    plain = unicodedata.normalize("NFKD", text.replace("ß", "ss")).casefold()
    return "".join(char for char in plain if char.isalnum() or char in signs)


def _name(one: Principal) -> str:
    """Return the name of an account for comparison; empty where it is the login once more and no name."""
    name = " ".join(filter(None, (_plain(word) for word in one.account.name.split())))
    return "" if name == _plain(one.account.login) else name


class _Joined:
    """Accounts while they are joined, one set a person."""

    def __init__(self, free: Sequence[Principal]) -> None:
        self._free = free
        self._of = list(range(len(free)))
        self._why: dict[int, list[str]] = {}
        self.doubts: list[Doubt] = []
        self._emails = Counter((one.system, one.account.email.casefold()) for one in free)
        self._names = Counter((one.system, _name(one)) for one in free)

    def join(self) -> None:
        """Join all that surely belongs together, the strongest evidence first."""
        for strength in (self._by_ident, self._by_email, self._by_login, self._by_name, self._by_form):
            for one, other, why, is_sure in list(strength()):
                self._take(one, other, why, is_sure)

    def _take(self, one: int, other: int, why: str, is_sure: bool) -> None:
        mine, theirs = self._of[one], self._of[other]
        if mine == theirs:
            return
        members = [n for n, of in enumerate(self._of) if of in (mine, theirs)]
        systems = [self._free[n].system for n in members]
        if not is_sure or len(set(systems)) < len(systems) or len(self._own_emails(members)) > 1:
            self.doubts.append(Doubt(self._free[one], self._free[other], why))
            return
        for n in members:
            self._of[n] = mine
        self._why[mine] = [*self._why.get(mine, ()), *self._why.pop(theirs, ()), why]

    def _own_emails(self, members: Iterable[int]) -> set[str]:
        """Return the addresses that are one account's on its system: two of them are rather two people's."""
        found = ((self._free[n].system, self._free[n].account.email.casefold()) for n in members)
        return {email for system, email in found if email and self._emails[system, email] == 1}

    def _pairs(self, key_of: Mapping[int, str]) -> Iterator[tuple[int, int, str]]:
        """Yield pairs of accounts of different systems that have the same key."""
        groups: dict[str, list[int]] = {}
        for number, key in key_of.items():
            if key:
                groups.setdefault(key, []).append(number)
        for key, some in groups.items():
            for at, one in enumerate(some):
                for other in some[at + 1 :]:
                    if self._free[one].system != self._free[other].system:
                        yield one, other, key

    def _by_ident(self) -> Iterator[tuple[int, int, str, bool]]:
        keys = {n: one.account.ident if len(one.account.ident) >= _LONG else "" for n, one in enumerate(self._free)}
        for one, other, _ in self._pairs(keys):
            yield one, other, "the same identifier of a directory", True

    def _by_email(self) -> Iterator[tuple[int, int, str, bool]]:
        for one, other, email in self._pairs({n: each.account.email.casefold() for n, each in enumerate(self._free)}):
            is_alone = all(self._emails[self._free[n].system, email] == 1 for n in (one, other))
            is_theirs = is_alone and self._is_personal(one, other, email)
            why = f"the same e-mail address, {email}"
            yield one, other, why if is_theirs else f"{why}, which may be several people's", is_theirs

    def _is_personal(self, one: int, other: int, email: str) -> bool:
        """Tell whether an address is one person's: by equal names, or as made of the name or the login."""
        names = [_name(self._free[n]) for n in (one, other)]
        if all(names):
            return names[0] == names[1]
        # As logins are made: with the signs that part a name.
        local = _local(email)
        logins = {self._free[n].account.login.casefold() for n in (one, other)}
        if not any(names) and len(re.split("[._-]", local)) == 2:
            # Neither has a name, and the address spells one out that a login is made of.
            spelled = " ".join(re.split("[._-]", local))
            return any(_fits(login, login_forms(spelled)) for login in logins)
        known = self._free[one if names[0] else other].account.name
        made_of = login_forms(known) if any(names) else frozenset()
        return bool({local, local.replace("-", "")} & (made_of | logins)) or (
            len(logins) == 1 and any(names) and _tells_last(min(logins), known)
        )

    def _by_login(self) -> Iterator[tuple[int, int, str, bool]]:
        for one, other, login in self._pairs({n: each.account.login.casefold() for n, each in enumerate(self._free)}):
            names = [_name(self._free[n]) for n in (one, other)]
            known = self._free[one if names[0] else other].account.name
            # Of an account without a name the login must say whose it is: a first name alone is many people's.
            tells = names[0] == names[1] if all(names) else any(names) and _tells_last(login, known)
            bare = self._free[other if names[0] else one].account
            # Or their address says it, where it spells out that name.
            tells |= any(names) and not all(names) and _spells_out(_local(bare.email), known)
            is_sure = tells and not self._speaks_against(one, other)
            why = f"the same login, {login}"
            yield one, other, why if is_sure else f"{why}, but nothing else", is_sure

    def _by_name(self) -> Iterator[tuple[int, int, str, bool]]:
        keys = {n: _name(one) if " " in _name(one) else "" for n, one in enumerate(self._free)}
        for one, other, name in self._pairs(keys):
            is_alone = all(self._names[self._free[n].system, name] == 1 for n in (one, other))
            forms = login_forms(self._free[one].account.name)
            fits = all(_fits(self._free[n].account.login.casefold(), forms) for n in (one, other))
            is_sure = is_alone and fits and not self._speaks_against(one, other)
            why = f"the same name, {self._free[one].account.name}"
            yield one, other, why if is_sure else f"{why}, but nothing else", is_sure

    def _by_form(self) -> Iterator[tuple[int, int, str, bool]]:
        """Yield accounts without a name whose login is made of one person's name and of nobody else's.

        That is sure only where it spells out the name whole: an initial is many people's.
        """
        named: dict[str, set[int]] = {}
        for number, one in enumerate(self._free):
            for form in login_forms(one.account.name) if _name(one) else ():
                named.setdefault(form, set()).add(number)
        for number, one in enumerate(self._free):
            login = one.account.login.casefold()
            fitting = named.get(login, set()) if not _name(one) else set()
            others = [n for n in sorted(fitting) if self._free[n].system != one.system]
            if others and len({_name(self._free[n]) for n in others}) == 1:
                name = self._free[others[0]].account.name
                is_alone = all(self._names[self._free[n].system, _name(self._free[n])] == 1 for n in others)
                is_sure = _spells_out(login, name) and is_alone and not self._speaks_against(number, others[0])
                why = f"the login {login} is made as of {name}"
                yield number, others[0], why if is_sure else f"{why}, and nothing else is told", is_sure

    def _speaks_against(self, one: int, other: int) -> bool:
        """Tell whether both have addresses of their own that differ."""
        return len(self._own_emails((one, other))) > 1

    def clusters(self) -> Iterator[tuple[list[Principal], list[str]]]:
        """Yield the accounts of each person, in the order of the first, and why they are one's."""
        groups: dict[int, list[Principal]] = {}
        for number, of in enumerate(self._of):
            groups.setdefault(of, []).append(self._free[number])
        for of, mine in groups.items():
            yield mine, self._why.get(of, [])


def _person(mine: Sequence[Principal], why: Sequence[str], ids: _Ids) -> DraftPerson:
    named = next((one for one in mine if _name(one)), mine[0])
    name = named.account.name if _name(named) else mine[0].account.login
    email = next((one.account.email for one in mine if one.account.email), "")
    kind = Kind.GUEST if any(one.kind is Kind.GUEST for one in mine) else Kind.STAFF
    return DraftPerson(ids.of(name, mine[0].account.login), name, email, kind, tuple(mine), tuple(dict.fromkeys(why)))


class _Ids:
    """Gives each person a short word that nobody else has: the last name, else with the first, else the login."""

    def __init__(self, taken: Iterable[str]) -> None:
        self._taken = {one.casefold() for one in taken} | set(CLASSES)

    def of(self, name: str, login: str) -> str:
        """Return the id of the next person."""
        words = [_plain(word) for word in name.split() if _plain(word)]
        # A name of two words is a person's; what is longer is rather a place or a thing.
        tried = [words[-1], f"{words[0]}-{words[-1]}"] if len(words) == 2 else []
        tried.append(
            "".join(char if char.isalnum() or char in "-_." else "-" for char in login.casefold()).strip("-.")
        )
        numbered = (f"{tried[-1] or 'person'}-{number}" for number in range(2, 1_000_000))
        found = next(one for one in chain(tried, numbered) if one and one not in self._taken)
        self._taken.add(found)
        return found
