"""What somebody who decides has to know first: sentences of when, what, who and one next step, without addresses."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.checks.causes import Cause
from neatledger.core.checks.contract import ANYONE, Finding
from neatledger.core.space.when import FillUp
from neatledger.core.tree.address import Address
from neatledger.counting import count_of
from neatledger.questions.office import Office
from neatledger.questions.seen import bounds

__all__ = ["OF_ACCESS", "Decision", "ask", "date_words", "day_words", "name_of_place", "not_known", "summary"]

_WEEK = timedelta(days=7)
YOU = "You"
"""Whoever reads the page."""


@dataclass(frozen=True, slots=True)
class Decision:
    """One sentence for who decides: by when, what is so, who acts, and what is the next step."""

    when: str
    what: str
    who: str
    step: str

    @property
    def sentence(self) -> str:
        """The whole of it."""
        return f"{self.when}. {self.what} {self.who}: {self.step}."


def day_words(day: date) -> str:
    """Return a day as people say it: ``30 November``."""
    return f"{day.day} {day:%B}"


def date_words(office: Office) -> str:
    """Return today as people say it: ``23 November 2026``."""
    return f"{day_words(office.today)} {office.today.year}"


def not_known(office: Office) -> str:
    """Say once, by the names of the systems, of what not all is known."""
    surveys, missing = bounds(office, is_assured=True)
    in_part = [survey.system for survey in surveys if survey.not_seen or survey.taken_at != office.count.taken_at]
    names = [name_of_place(office, name) for name in (*in_part, *missing)]
    return f"Not known: all of what is on {', '.join(names)}." if names else ""


def name_of_place(office: Office, place: Address | str) -> str:
    """Return a folder or a system by its title in the plan, or else by its last name."""
    if isinstance(place, Address):
        last = place.parts[-1].decode("utf-8", "replace") if place.parts else ""
        return office.plan.title_of(place) or last or name_of_place(office, place.system)
    system = place.partition(":")[0].partition(" ")[0]
    planned = office.plan.systems.get(system)
    return (planned.title if planned is not None else "") or system


def ask(office: Office, causes: Sequence[Cause], filling: Sequence[FillUp]) -> list[Decision]:
    """Return what is to be decided, the most urgent first: of problems that people can act on, each once."""
    found = [*_of_causes(office, causes), *_of_space(office, filling)]
    return sorted(found, key=lambda one: _ORDER.index(one.when))


_TODAY, _THIS_WEEK, _THIS_MONTH = "Today", "This week", "This month"
_ORDER = (_TODAY, _THIS_WEEK, _THIS_MONTH)


def _of_causes(office: Office, causes: Sequence[Cause]) -> Iterator[Decision]:
    administrator = _administrator(office)
    for cause in causes:
        for finding in cause.findings:
            make = _SENTENCES.get(finding.check)
            if make is not None:
                yield make(office, finding, administrator)
                break


def _of_space(office: Office, filling: Sequence[FillUp]) -> Iterator[Decision]:
    pools = set(office.plan.space.pools) | set(office.plan.systems)
    for one in filling:
        if one.target in pools and one.when.day is not None and one.when.day <= office.today + timedelta(days=30):
            when = _THIS_WEEK if one.when.day <= office.today + _WEEK else _THIS_MONTH
            what = f"{_upper(_disk(office, one.target))} is full about {day_words(one.when.day)}."
            yield Decision(when, what, YOU, "choose between clearing what is not needed and a larger disk")


def _disk(office: Office, name: str) -> str:
    return f"the disk of {name_of_place(office, name)}"


def _upper(text: str) -> str:
    return text[:1].upper() + text[1:]


def _person(office: Office, ident: str) -> str:
    """Return somebody's name; of somebody who is not in the plan that they are not known."""
    planned = office.plan.people.get(ident)
    return planned.name if planned is not None else "somebody who is not in the plan"


def _administrator(office: Office) -> str:
    """Return the name of who administers most systems, of those who are here; whoever reads where nobody is known."""
    found: Counter[str] = Counter()
    for system, holders in office.systems.holders.items():
        overrides = office.readers[system].terms.model.overrides
        found.update({one.person for one in holders if overrides(one.holder) is not None})
    here = [(number, person) for person, number in found.items() if office.plan.is_here(person)]
    people = [person for _, person in sorted(here, key=lambda one: (-one[0], one[1]))]
    named = [person for person in people if office.plan.people.get(person) is not None]
    return _person(office, named[0]) if named else YOU


def _decider(office: Office, place: Address | str, otherwise: str) -> str:
    who = office.plan.decider_of(place) if isinstance(place, Address) else ""
    return _person(office, who) if who else otherwise


def _about(finding: Finding) -> str:
    return next((one for one in finding.people if one != ANYONE), "")


Sentence = Callable[[Office, Finding, str], Decision]


def _deed(what: str, step: str, when: str = _TODAY) -> Sentence:
    """Return a sentence about what somebody did: the administrator acts."""

    def make(office: Office, finding: Finding, administrator: str) -> Decision:
        who = _person(office, _about(finding)) if _about(finding) else "Somebody unknown"
        words = {
            "who": who,
            "where": name_of_place(office, finding.place),
            "files": finding.evidence.partition(" files")[0].rpartition(" ")[2],
        }
        # Nobody is asked to judge what they did themselves.
        judge = YOU if who == administrator else administrator
        return Decision(when, _upper(what.format(**words)), judge, step.format(**words))

    return make


def _of_folder(what: str, step: str, when: str) -> Sentence:
    """Return a sentence about a folder: who decides on it acts, or the administrator."""

    def make(office: Office, finding: Finding, administrator: str) -> Decision:
        where = name_of_place(office, finding.place)
        who = _decider(office, finding.place, administrator)
        return Decision(when, _upper(what.format(where=where)), who, step.format(where=where))

    return make


def _of_link(what: str, step: str, when: str) -> Sentence:
    """Return a sentence about something shared: who shared it acts, if they are still here."""

    def make(office: Office, finding: Finding, administrator: str) -> Decision:
        maker = finding.evidence.partition(" from ")[2].partition(" to ")[0]
        who = _person(office, maker) if office.plan.is_here(maker) else administrator
        return Decision(when, _upper(what.format(where=name_of_place(office, finding.place))), who, step)

    return make


def _of_person(what: str, step: str, when: str) -> Sentence:
    """Return a sentence about somebody's account or device: the administrator acts."""

    def make(office: Office, finding: Finding, administrator: str) -> Decision:
        who = _about(finding) or finding.evidence.partition(" left on ")[0]
        named = _person(office, who) if who in office.plan.people else who.rpartition(": ")[2] or "somebody"
        where = name_of_place(office, finding.place)
        return Decision(when, _upper(what.format(who=named, where=where)), administrator, step.format(where=where))

    return make


_STILL = "say whether it is still needed"
_SENTENCES: dict[str, Sentence] = {
    "one-unknown-kind": _deed(
        "Someone may have scrambled {files} of our files in {where}, from {who}'s account.", "block the account"
    ),
    "mass-deletion": _deed("{who} deleted {files} files in {where} within minutes.", "ask whether that was meant"),
    "logging-changed": _deed("{who} changed what {where} keeps a log of.", "ask why, and have it put back"),
    "left-but-active": _deed("An account of {who} that should be closed was used.", "disable the account"),
    "accounts-tried": _deed("One address tried to sign in as several people on {where}.", "shut that address out"),
    "account-tried": _deed("Somebody guessed at {who}'s password on {where}.", "have the password changed"),
    "left-but-open": _of_person("{who} has left and can still sign in on {where}.", "disable the account", _TODAY),
    "device-lost": _of_person("A lost device still holds copies of our files.", "erase it", _TODAY),
    "device-of-leaver": _of_person(
        "Somebody who left still has copies of our files on a device.",
        "erase them, or have it brought back",
        _THIS_WEEK,
    ),
    "administrator-without-second-factor": _of_person(
        "An administrator of {where} signs in with a password only.", "switch on a second factor", _THIS_WEEK
    ),
    "anyone-may-change": _of_link("Anyone with an open link can change files in {where}.", _STILL, _TODAY),
    "beyond-the-rules": _of_link(
        "A link or hand-out of {where} gives more than our rules allow.", _STILL, _THIS_WEEK
    ),
    "homes-opened": _of_link("A link opens everybody's own folders.", _STILL, _TODAY),
    "passed-on": _of_link("{where} was passed on, which our rules forbid.", _STILL, _THIS_WEEK),
    "no-end": _of_link("A link to {where} never ends.", _STILL, _THIS_MONTH),
    "everyone-may-write": _of_folder("Everyone can add files to {where}.", "say who should", _THIS_WEEK),
    "expectation-broken": _of_folder(
        "A rule for {where} is broken.", "say whether the rule still stands", _THIS_WEEK
    ),
    "decision-not-carried-out": _of_folder(
        "Somebody still has access to {where} that a review took away.", "take it away now", _THIS_WEEK
    ),
    "manager-gone": _of_folder("The only managers of {where} have left.", "name somebody who is here", _THIS_WEEK),
    "no-protection": _of_folder("{where} has no backup.", "take it into a backup", _THIS_WEEK),
    "backup-late": _of_folder("The backup of {where} is late.", "see why, and run it", _THIS_WEEK),
    "key-of-nobody": _of_folder("Nobody holds the key to {where}.", "find the key", _THIS_WEEK),
    "download-void": _of_folder("{where} may only be looked at, and yet can be taken away.", "close it", _THIS_WEEK),
    "review-overdue": _of_folder("It is due to ask who keeps access to {where}.", "answer the review", _THIS_MONTH),
}
"""Check → the sentence that says what it found to somebody who decides; of all others only the number is said."""


OF_ACCESS = (
    *("left-but-open", "anyone-may-change", "beyond-the-rules", "homes-opened", "passed-on", "no-end"),
    *("everyone-may-write", "expectation-broken", "decision-not-carried-out", "manager-gone", "download-void"),
    "review-overdue",
)
"""Those of them that are about who may do what."""


def summary(office: Office, decisions: Sequence[Decision], causes: Sequence[Cause], shown: int) -> str:
    """Say how much more there is: of what stands in sentences, and of all other problems."""
    rest = len(decisions) - shown
    others = len(causes) - sum(any(one.check in _SENTENCES for one in cause.findings) for cause in causes)
    words = [f"{count_of(rest, 'more decision')} of this kind"] if rest > 0 else []
    words += [f"{count_of(others, 'other problem')}"] if others > 0 else []
    return f"Also: {'; '.join(words)}, in the appendix." if words else ""
