"""What to know on a Monday morning: new, gone, gravest, what lapses and fills up, what waits, what was not seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from neatledger.core.checks.causes import Cause
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.when import Meeting, When
from neatledger.errors import NoCountError
from neatledger.ledger.store import CountInfo
from neatledger.questions import check, lapses
from neatledger.questions.facts import load_facts
from neatledger.questions.office import Office

__all__ = ["Brief", "ask"]

_WEEK = 7


@dataclass
class Brief:
    """The parts of it; `older` is the count that new and gone are since (None: there is no older one)."""

    older: CountInfo | None = None
    new: Sequence[Cause] = ()
    gone: Sequence[Cause] = ()
    gravest: Sequence[Cause] = ()
    lapsing: Sequence[Lapse] = ()
    filling: Sequence[tuple[LimitStatus, When]] = ()
    not_seen: Sequence[str] = ()
    waiting: list[str] = field(default_factory=list)


def ask(office: Office) -> Brief:
    """Return the brief of the newest count beside the one before it."""
    found = Brief()
    facts = load_facts(office)
    findings = check.grade(facts)
    found.gravest = check.ask_for_causes(office, findings)
    try:
        compared = check.ask_since(office, found=findings)
    except NoCountError:
        pass
    else:
        found.older = compared.older
        found.new = check.ask_for_causes(office, compared.new)
        found.gone = check.ask_for_causes(office, compared.gone)
    found.lapsing = lapses.ask(office, within_days=_WEEK).coming
    outlooks = [(one, facts.space.full_on(one)) for one in facts.space.statuses if one.is_told]
    met = [(one, when) for one, when in outlooks if when.meeting in (Meeting.ALREADY, Meeting.ON)]
    found.filling = sorted(met, key=lambda one: (one[1].meeting is Meeting.ON, str(one[1].day), one[0].target.key))
    found.not_seen = office.caveats()
    found.waiting = _waiting(office, findings)
    return found


_WAITS = {
    "account-apart": "{} may be joined with a person of the plan: match",
    "invitation-waiting": "{} waits for an answer: guests",
    "guest-not-planned": "{} is to be written into the plan, or sent home: guests",
}


def _waiting(office: Office, findings: Sequence[check.GradedFinding]) -> list[str]:
    """Say what waits for somebody: steps that were begun, accounts to be matched, invitations."""
    runs = office.ledger.journal.runs()
    found = []
    if runs and not runs[-1].is_ended:
        found.append("steps were begun and not finished: mend --go-on, or mend --undo")
    for name, words in _WAITS.items():
        places = [check.place_of(one.finding) for one in findings if one.finding.check == name and not one.acceptance]
        if places:
            more = f" and {len(places) - 3} more" if len(places) > 3 else ""
            found.append(words.format(", ".join(places[:3]) + more))
    return found
