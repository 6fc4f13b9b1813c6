"""What a list of roles gives one holder by name, set so that nobody else's part of it changes."""

from __future__ import annotations

from neatledger.core.lists.rights import Right
from neatledger.core.lists.role import OPEN, Entry, RoleModel, pack_body
from neatledger.core.lists.subjects import Subject
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["set_holder"]

_SUBJECTS = {
    Sort.USER: Subject.USER,
    Sort.GROUP: Subject.GROUP,
    Sort.EVERYONE: Subject.EVERYONE,
    Sort.OWNER: Subject.OWNER,
}


def set_holder(body: bytes, whom: Whom, rights: Right | None, *, is_folder: bool) -> bytes:
    """Return a list that gives a holder by name these rights and no others; None: it does not name them.

    Raises `StepError` for a list that could not be read, or is none: there the team folder's members decide.
    """
    if body == RoleModel.unread:
        raise StepError("the list could not be read, so nothing is changed in it")
    if body == OPEN:
        raise StepError("it has no list of its own: the members of the team folder decide")
    subject = _SUBJECTS[whom.sort]
    ident = whom.ident if whom.sort in (Sort.USER, Sort.GROUP) else ""
    alike = {subject, Subject.EITHER} if ident else {subject}
    if whom.sort is Sort.EVERYONE:
        # Whoever signs in is everybody whom a list can speak of; what was for these alone stays for these alone.
        alike = {Subject.EVERYONE, Subject.SIGNED_IN}
        named = {entry.subject for entry in RoleModel().parse(body).entries} & alike
        subject = named.pop() if len(named) == 1 else subject
    known = RoleModel().parse(body).entries
    theirs = [n for n, entry in enumerate(known) if entry.subject in alike and entry.ident == ident]
    entries = [entry for n, entry in enumerate(known) if n not in theirs]
    if rights:
        place = next((n for n, entry in enumerate(entries) if entry.inherited), len(entries))
        # Where it stood before: the first that speaks decides, and what was before a refusal stays before it.
        place = min([place, *theirs[:1]])
        if whom.sort in (Sort.USER, Sort.GROUP):
            # Behind what refuses everybody it would give nothing.
            place = min([place, *(n for n, entry in enumerate(entries) if _refuses_all(entry, rights))])
        entries.insert(place, Entry(subject, ident, rights, True, False))
    return pack_body(entries)


def _refuses_all(entry: Entry, rights: Right) -> bool:
    is_of_all = entry.subject in (Subject.EVERYONE, Subject.SIGNED_IN)
    return is_of_all and not entry.allows and bool(entry.rights & rights)
