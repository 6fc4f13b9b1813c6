"""The words of the screen as data: what each that stays means, and what is said in place of private ones."""

from __future__ import annotations

__all__ = ["GLOSSARY", "OUT", "explained", "word_of_today"]

GLOSSARY = {
    "plan": "what the office means to have: people, groups, folders, limits, in office.yaml",
    "found": "what a count saw on the systems, beside what the plan says",
    "count": "one dated look at all systems, kept in the ledger; nothing else is called a count",
    "ledger": "the file that keeps all counts, what was done about them, and the logs that were read",
    "person": "somebody of the plan, with their accounts on each system; or an account that nobody in the plan has",
    "group": "people who have something together: of the plan, and by what name each system has it",
    "list": "the access list of a folder or file: who may do what there",
    "entry": "one line of a list: whom it names, and what it gives or refuses",
    "level": "a usual set of rights: list, view, read, add-only, write, manage",
    "view": "read on the screen only: contents cannot be taken away",
    "add-only": "add files without seeing what others put there",
    "share": "a name under which a server shows a folder, with a permission of its own",
    "team folder": "a folder of a service that belongs to no person, with members",
    "hand-out": "a folder or file that one person gave another inside a service",
    "link": "an address that opens a folder or file to whoever has it, or to those it names",
    "guest": "somebody from outside with an account of their own, invited by somebody here",
    "condition": "one thing that must be so before somebody gets in; why lists them in their order",
    "through": "by what somebody has access: a group, their name in the list, a link, being an administrator",
    "planned": "what the plan gives somebody on a folder; - is nothing",
    "problem": "findings that one thing brought about: what one step would end",
    "finding": "one thing that a check found: where, about whom, and how serious",
    "check": "one rule of good order that is tried on every count",
    "severity": "how much a finding matters: high, medium, low, advice",
    "score": "what ranks a problem: severity, people with more than planned, what they can do, for how long",
    "accepted": "a finding that the office lives with, as the plan says: why, and until when",
    "unusual": "an event in a system's log that differs from what is usual there",
    "log": "what a system wrote down of what was done; trail reads the logs",
    "limit": "how much may be stored; it blocks at the limit, or only warns",
    "warns": "a limit that may be exceeded; with days, it blocks when they are over",
    "blocks": "a limit at which nothing more can be stored",
    "band": "one limit for many places, by name; a place that differs is an exception",
    "disk": "what folders lie on together and fill up together; the plan calls it a pool",
    "pool": "the plan's word for a disk: folders that fill up together",
    "licence": "what somebody needs to use a service; the plan calls it an entitlement",
    "space left": "how much somebody can still store in a folder, until the first limit stops them",
    "bin": "where a system keeps what was deleted, for some days or forever",
    "version": "what a file was before it was saved again, kept by the system",
    "not allowed": "a type of file that the plan does not want in a folder",
    "post": "what somebody does here: nurse, front desk; with the groups that come with it",
    "successor": "who takes over what somebody leaves",
    "guarded": "a folder that is closed or sensitive: who keeps access is reviewed",
    "review": "owners confirm who keeps what access, signed",
    "step": "one change of one thing on one system, which can be made and taken back",
    "by hand": "a step that the tool cannot make: somebody does it in the system's own tools",
    "expiring": "whatever ends on a day: links, guests, posts, passwords, acceptances",
    "goes back": "how old the oldest backup is from which something can be restored",
    "seal": "a digest over all that was kept before: it shows whether something was changed since",
    "unknown": "what a system did not tell, or could not be read; shown as ?, never taken for nothing",
}
"""A word → what it means, in one sentence."""

OUT = {
    "cause": "problem",
    "gravest": "most serious",
    "exposure": "score",
    "gate": "condition",
    "worklist": "steps",
    "journal": "log of runs",
    "room": "space left",
    "nobody tells it": "unknown",
    "not told": "unknown",
    "unbanded": "(no band)",
    "off band": "differs",
    "on band": "(nothing: it does not differ)",
    "watched": "warns",
    "enforced": "blocks",
    "beyond the plan": "more than planned",
    "not in order": "breaks a rule",
    "amiss": "breaks a rule",
    "lapse": "expire",
    "looks wrong": "unusual",
    "odd": "unusual",
    "what is written down": "what is logged",
    "grows in lumps": "grows in bursts",
    "barred": "not allowed",
    "kind nobody knows": "unknown type",
    "by a person": "by hand",
    "told from": "alarm at",
}
"""A private word → what is said in its place."""


def explained(word: str) -> str:
    """Return what a word means, or what is said in place of a private one; nothing for any other."""
    plain = word.casefold().strip()
    if plain in GLOSSARY:
        return f"{plain}: {GLOSSARY[plain]}."
    today = word_of_today(plain)
    if today != plain:
        meaning = GLOSSARY.get(today)
        return f"{plain} is now: {today}" + (f"\n{today}: {meaning}." if meaning else "")
    return ""


_FORMER = {"drop": "add-only", "linked": "connected", "wiped": "erased", "single-files": "share: folders and files"}
"""A word that plans and tables had before → what it is now; folders may well be called so."""


def word_of_today(word: str) -> str:
    """Return what is said in place of a private or former word; the word itself, plain, for any other."""
    plain = word.casefold().strip()
    return OUT.get(plain) or _FORMER.get(plain, plain)
