"""What to know on a Monday morning: new, gone, gravest, what lapses and fills up, what waits, what was not seen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta

from neatledger.core.checks.causes import Cause
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.when import FillUp
from neatledger.counting import count_of
from neatledger.errors import NoCountError
from neatledger.ledger.store import CountInfo
from neatledger.questions import check, lapses, signs, told
from neatledger.questions.covered import short_of_today
from neatledger.questions.days import begin_of
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.questions.signs import SeenSign

__all__ = ["Brief", "ask"]

_WEEK = 7


@dataclass
class Brief:
    """The parts of it.

    `older` is the count that new and gone are since (None: there is no older one), `odd` what looks wrong in the
    records since the day `week` (None: there are none), `earlier` how many such things there are in the weeks before
    that are looked at, and `short` says where the logs do not reach to today.
    """

    older: CountInfo | None = None
    new: Sequence[Cause] = ()
    gone: Sequence[Cause] = ()
    gravest: Sequence[Cause] = ()
    lapsing: Sequence[Lapse] = ()
    filling: Sequence[FillUp] = ()
    odd: Sequence[SeenSign] | None = None
    week: date = date.min
    earlier: int = 0
    short: Sequence[str] = ()
    not_seen: Sequence[str] = ()
    waiting: list[str] = field(default_factory=list)


def ask(office: Office) -> Brief:
    """Return the brief of the newest count beside the one before it."""
    found = Brief()
    findings = check.ask(office)
    found.gravest = check.ask_for_causes(office, findings)
    try:
        compared = check.ask_since(office)
    except NoCountError:
        pass
    else:
        found.older = compared.older
        found.new = check.ask_for_causes(office, compared.new)
        found.gone = check.ask_for_causes(office, compared.gone)
    found.lapsing = lapses.ask(office, within_days=_WEEK).coming
    found.filling = told.ask(office).filling
    found.week = office.today - timedelta(days=_WEEK)
    if office.ledger.has_trail():
        seen, begin = signs.ask(office), begin_of(found.week)
        found.odd = [one for one in reversed(seen) if one.sign.first >= begin]
        found.earlier, found.short = len(seen) - len(found.odd), short_of_today(office, found.week)
    found.not_seen = caveats(office, is_assured=True)
    found.waiting = _waiting(office, findings)
    return found


_WAITS = {
    "account-apart": ("account to match (people --match)", "accounts to match (people --match)"),
    "review-overdue": ("review to ask for (review)", "reviews to ask for (review)"),
    "invitation-waiting": ("invitation not answered (people --guests)", "invitations not answered (people --guests)"),
    "guest-not-planned": ("guest not in the plan (people --guests)", "guests not in the plan (people --guests)"),
}
"""Check → what of it waits for somebody: of one, and of several."""


def _not_run(office: Office) -> Iterator[str]:
    """Say what was to run by itself every so many days, and did not."""
    settings, today = office.plan.settings, office.today
    days = settings.get("gather-days")
    if days is not None and today > office.count.day + timedelta(days=days):
        yield f"no count since {office.count.day}, due every {count_of(days, 'day')} (count)"
    days = settings.get("notices-days")
    if days is not None and office.plan.notices.rules:
        last = office.ledger.notices.last_run()
        if last is None or today > last.date() + timedelta(days=days):
            since = f"no mails sent since {last:%Y-%m-%d}" if last else "no mails sent yet"
            yield f"{since} (notices --send)"


def _waiting(office: Office, findings: Sequence[told.GradedFinding]) -> list[str]:
    """Say what waits for somebody: steps that were begun, accounts to be matched, invitations."""
    runs = office.ledger.journal.runs()
    found = list(_not_run(office))
    if runs and not runs[-1].is_ended:
        found.append("steps were started and not finished (mend --go-on, or mend --undo)")
    some = Counter(one.finding.check for one in findings if one.acceptance is None)
    counted = [
        f"{some[name]:,} {many if some[name] > 1 else single}"
        for name, (single, many) in _WAITS.items()
        if some[name]
    ]
    # Two of them on a line.
    return found + [", ".join(counted[at : at + 2]) for at in range(0, len(counted), 2)]
