"""The paper on the office: what to do first, how it went, what is sensitive, shared, full and ending."""

from __future__ import annotations

from datetime import date

from neatledger.core.checks.contract import Severity
from neatledger.core.lists.rights import Right
from neatledger.core.space.sizes import show_size
from neatledger.errors import NoCountError
from neatledger.papers.access import sensitive_part
from neatledger.questions import check, deciders, lapses, links, most, signs, told, unused
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.reports.causes import causes_paper_report
from neatledger.reports.compare import most_report
from neatledger.reports.forecast import show_when
from neatledger.reports.lapses import lapses_report
from neatledger.reports.links import links_report
from neatledger.reports.paper import Lines, Paper, Part, numbered
from neatledger.reports.report import Column, Portion, Report, Row, Size, count_of
from neatledger.reports.trail import signs_report
from neatledger.reports.unused import unused_report

__all__ = ["make"]

_FIRST, _DAYS, _MOST, _SIGN_DAYS = 25, 60, 10, 30
_SENTENCES = 7
"""How many sentences stand on top; of what is more the number is said."""


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    when = office.count.when
    findings = check.ask(office)
    causes = check.ask_for_causes(office, findings)
    since = told.History(office).since
    filling = _filling_part(office)
    found = lapses.ask(office, within_days=_DAYS)
    coming = lapses_report(found.coming, found.today, len(found.past), len(found.later))
    shares = most.ask(office, Right.CHANGE, _MOST)
    parts = [
        Part("What to do first", causes_paper_report(causes, since, _FIRST), keys=("where",)),
        _history_part(office),
        sensitive_part(office, [one for one in findings if one.acceptance is None]),
        Part("Who can change the most", most_report(shares[:_MOST], Right.CHANGE, when, _MOST), keys=("person",)),
        *_shared_parts(office),
        *_trail_parts(office),
        filling,
        Part(f"What ends in {_DAYS} days", coming, keys=("what", "place", "who")),
        _seen_part(office),
    ]
    decisions = deciders.ask(office, causes, told.ask(office).filling)
    lead = numbered([decision.sentence for decision in decisions], _SENTENCES)
    lead += filter(None, [deciders.summary(office, decisions, causes, len(decisions[:_SENTENCES]))])
    lead = lead or [_nothing(office)]
    lead.append(f"{_change_words(office)} {deciders.not_known(office)}".strip())
    title = f"{office.plan.office}: our files and accounts, {deciders.date_words(office)}"
    return Paper(title, f"As counted on {when}.", lead, parts, "For the administrator")


def _nothing(office: Office) -> str:
    """Say that there is nothing to decide, with the bound that not all was seen where that is so."""
    text = "Nothing needs you now: no problem was found"
    return f"{text} in what was seen." if caveats(office, for_paper=True, is_assured=True) else f"{text}."


def _change_words(office: Office) -> str:
    """Say what is new and solved since the count before."""
    try:
        compared = check.ask_since(office)
    except NoCountError:
        return "This is the first count: nothing can be said of what changed."
    new, gone = (len(check.ask_for_causes(office, some)) for some in (compared.new, compared.gone))
    older = compared.older
    since = f"Since {deciders.day_words(older.day)}"
    if older.day == office.count.day:
        since = f"Since the count before, of {older.when[-5:]} that day"
    return f"{since}: {new or 'nothing'} new, {gone or 'nothing'} solved."


def _shared_parts(office: Office) -> list[Part]:
    """Return what is shared and not in order; nothing where no system tells what is shared."""
    if not any(office.systems.service(system) for system in office.readers):
        return []
    offers = links.ask(office)
    faulty = [one for one in offers.judged if one.breaches]
    shared = links_report(faulty, offers.names, offers.total, office.day, office.count.when)
    return [Part("Shared, and against a rule", shared, keys=("id", "target"))]


def _trail_parts(office: Office) -> list[Part]:
    """Return what looks wrong in the records, and what nobody used; nothing where there are no records."""
    if not office.ledger.has_trail():
        return []
    odd = signs_report(signs.ask(office)[::-1], f" in the records of {_SIGN_DAYS} days", ())
    unused_rights = unused_report(unused.ask(office), "")
    return [Part("What is unusual", odd, keys=("moment", "sign")), Part("What nobody used", unused_rights)]


def _history_part(office: Office) -> Part:
    """Return how many findings stood at each count that was looked at."""
    looks = told.History(office).looks
    order = list(reversed(Severity))
    rows: list[Row] = [
        {
            "day": look.day.isoformat(),
            **{one.value: look.standing.get(one.value, 0) for one in order},
            "all": sum(look.standing.values()),
        }
        for look in looks
    ]
    columns = [Column("day", "DAY"), *(Column(one.value, one.value.upper(), number=True) for one in order)]
    columns.append(Column("all", "ALL", number=True))
    days: list[date] = [look.day for look in looks]
    series = [(one.value, [look.standing.get(one.value, 0) for look in looks]) for one in order]
    headline = f"{count_of(len(rows), 'count')} looked at; accepted findings are left out."
    figures = [Lines("Findings by severity", days, series)] if len(rows) > 1 else []
    return Part("Findings over time", Report("history", headline, columns, rows), figures, keys=("day",))


def _filling_part(office: Office) -> Part:
    filling = told.ask(office).filling
    rows: list[Row] = [
        {
            "place": one.target,
            "used_bytes": Size(one.amount),
            "limit_bytes": Size(one.limit),
            "percent": Portion(one.amount, one.limit),
            "bar": "",
            "full": show_when(one.when),
        }
        for one in filling
    ]
    columns = (
        Column("place", "PLACE", cuts=True),
        Column("used_bytes", "USED", number=True),
        Column("limit_bytes", "LIMIT", number=True),
        Column("percent", "FULL", number=True),
        Column("bar", ""),
        Column("full", "FULL ON"),
    )
    already = sum(one.when.day is None for one in filling)
    soonest = next((one for one in filling if one.when.day is not None), None)
    headline = f"{count_of(already, 'place')} {'is' if already == 1 else 'are'} full"
    if soonest is not None:
        used = f"{show_size(soonest.amount)} of {show_size(soonest.limit)}"
        headline += f"; next is {soonest.target}, on {soonest.when.day}: {used}"
    report = Report("filling", f"{headline}.", columns, rows, [], "nothing is known to")
    return Part("What fills up", report, keys=("place",))


def _seen_part(office: Office) -> Part:
    """Return the systems with when each was counted, and how much of it could not be seen."""
    rows: list[Row] = [
        {
            "system": one.system,
            "when": one.when,
            "folders": one.folders,
            "files": one.files,
            "not_seen": one.not_seen,
        }
        for one in office.count.surveys
    ]
    counted = {one.system for one in office.count.surveys}
    rows += [
        {"system": name, "when": "never", "folders": None, "files": None, "not_seen": None}
        for name in office.plan.systems
        if name not in counted
    ]
    columns = (
        Column("system", "SYSTEM"),
        Column("when", "COUNTED ON"),
        Column("folders", "FOLDERS", number=True),
        Column("files", "FILES", number=True),
        Column("not_seen", "NOT SEEN", number=True),
    )
    blind = sum(one.not_seen for one in office.count.surveys)
    headline = (
        "All was seen."
        if not blind
        else f"{count_of(blind, 'thing')} could not be read: what depends on it is unknown."
    )
    return Part("What was looked at", Report("seen", headline, columns, rows), keys=("system",))
