"""What an NFSv4 list gives one holder by name, set so that nobody else's part changes (RFC 8881 section 6.2.1)."""

from __future__ import annotations

from neatledger.core.lists.nfs4 import ALLOW, DENY, EVERYONE, IS_GROUP, OWNER, Entry, Nfs4Model, pack_body
from neatledger.core.lists.ordered import TO_FILES, TO_FOLDERS
from neatledger.core.lists.rights import Right
from neatledger.core.steps.grant_nt import mask_of
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["set_holder"]


def set_holder(body: bytes, whom: Whom, rights: Right | None, *, is_folder: bool) -> bytes:
    """Return a list that gives a holder by name these rights and no others; None: it does not name them.

    Raises `StepError` for a list that could not be read.
    """
    if body == Nfs4Model.unread:
        raise StepError("the list could not be read, so nothing is changed in it")
    parsed = Nfs4Model().parse(body)
    who = {Sort.EVERYONE: EVERYONE, Sort.OWNER: OWNER}.get(whom.sort, whom.ident)
    group = IS_GROUP if whom.sort is Sort.GROUP else 0

    def is_theirs(entry: Entry) -> bool:
        return entry.who == who and entry.flags & IS_GROUP == group and entry.type in (ALLOW, DENY)

    theirs = [n for n, entry in enumerate(parsed.entries) if is_theirs(entry)]
    entries = [entry for entry in parsed.entries if not is_theirs(entry)]
    # The bits are those of NT lists (RFC 8881 6.2.1.3), and names go before what is for everyone.
    mask = 0 if rights is None else mask_of(rights, is_folder=is_folder)
    if mask:
        flags = (TO_FILES | TO_FOLDERS if is_folder else 0) | group
        place = next((n for n, entry in enumerate(entries) if entry.who == EVERYONE), len(entries))
        # Where it stood before: the first that speaks decides, and what was before a refusal stays before it.
        place = min([place, *theirs[:1]])
        entries.insert(place, Entry(ALLOW, flags, mask, who))
    return pack_body(parsed.group, entries)
