"""Which count an answer rests on, and what of it was not seen: in sentences, and in one last line for a screen."""

from __future__ import annotations

from neatledger.counting import count_of
from neatledger.ledger.store import SurveyInfo
from neatledger.questions.office import Office

__all__ = ["caveats", "last_line"]


def bounds(office: Office, *, is_assured: bool) -> tuple[list[SurveyInfo], list[str]]:
    """Return the surveys that an answer rests on, and the systems of the plan that nobody looked at.

    Where no tree was read, what is said rests on what was counted beside the trees, of all systems. Who says that all
    is well (`is_assured`) of everything (and not of some systems) also rests on what was never counted.
    """
    surveys = office.count.surveys
    read = office.systems_read()
    is_of_all = len(read) == len(surveys) or (is_assured and not read)
    missing = [name for name in office.plan.systems if name not in {one.system for one in surveys}]
    return [one for one in surveys if is_of_all or one.system in read], missing if is_assured and is_of_all else []


def _newer_plan(office: Office) -> str:
    newer = office.ledger.plans.newer_than(office.books.plan_digest()) if office.ledger.is_shared else None
    if newer is None:
        return ""
    when = newer.moment.astimezone().strftime("%Y-%m-%d %H:%M")
    return f"{newer.who} has used a newer plan since {when}: the one here is older."


def _is_asked(office: Office) -> bool:
    return office.books.opened is not None and office.has_count


def caveats(office: Office, *, for_paper: bool = False, is_assured: bool = False) -> list[str]:
    """Return what to bear in mind of what was counted: of an older day, not seen whole, or never.

    A paper names no commands.
    """
    if not _is_asked(office):
        return []
    surveys, missing = bounds(office, is_assured=is_assured)
    found = [f"{name} was never counted: nothing is known of it." for name in missing]
    found += filter(None, [_newer_plan(office)])
    for one in surveys:
        if one.taken_at != office.count.taken_at:
            found.append(f"{one.system} is as of {one.when}: it is not in the count of {office.count.when}.")
        if one.not_seen:
            more = "" if for_paper else f" (neatledger ledger --not-seen {one.system})"
            unread = f"{count_of(one.not_seen, 'thing')} on {one.system} could not be read"
            found.append(f"This answer may be incomplete: {unread}{more}.")
    return found


def last_line(office: Office, *, is_assured: bool = False) -> str:
    """Return when it was counted, and what of it was not seen: of the systems on which the answer rests."""
    if not _is_asked(office):
        return ""
    surveys, missing = bounds(office, is_assured=is_assured)
    older = [f", {one.system} on {one.when}" for one in surveys if one.taken_at != office.count.taken_at]
    words = [_newer_plan(office), f"Counted {office.count.when}{''.join(older)}."]
    if missing:
        words.append(f"Never counted: {', '.join(missing)}.")
    unseen = [one for one in surveys if one.not_seen]
    if unseen:
        parts = ", ".join(f"{count_of(one.not_seen, 'thing')} on {one.system}" for one in unseen)
        words.append(f"Not seen: {parts} (ledger --not-seen {unseen[0].system}).")
    return " ".join(filter(None, words))
