"""The facts of the office, as checks want them; each part is read when a check first asks for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date, timedelta

from neatledger.core.access.ways import Access
from neatledger.core.checks.contract import (
    FormerAccount,
    HomeUse,
    OfficeFacts,
    ProtectionFacts,
    ReviewFacts,
    ServiceFacts,
    SpaceFacts,
    SystemFacts,
    TrailFacts,
    stranger,
)
from neatledger.core.people.homes import match_homes
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.plan import PlanSystem
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.promises import promises
from neatledger.core.space.when import Meeting, When
from neatledger.core.trail.coverage import Gap
from neatledger.core.tree.address import Address
from neatledger.ledger.homes import find_homes
from neatledger.ledger.locations import find_location
from neatledger.ledger.space import SpaceView
from neatledger.questions import limits, links, protect, signs
from neatledger.questions.covered import coverage_of
from neatledger.questions.decided import newest_decisions
from neatledger.questions.kinds import barred_on
from neatledger.questions.limits import History, load_history
from neatledger.questions.lognames import systems_with_logs
from neatledger.questions.office import Office
from neatledger.questions.undoing import undoing_of
from neatledger.questions.undoing import unversioned as unversioned_documents
from neatledger.questions.versions import bin_bytes, kept_versions
from neatledger.questions.views import load_views

__all__ = ["load_facts", "load_reviews", "load_space"]

_DAYS = 30  # in which something missing from the records is told


def load_facts(office: Office) -> OfficeFacts:
    """Return the whole office for its checks."""
    systems = [_system(office, name) for name in office.readers]
    return OfficeFacts(
        office.plan,
        systems,
        office.today,
        lambda: load_space(office),
        lambda: _services(office),
        lambda: load_reviews(office),
        lambda: _former(office),
        lambda: _trail(office),
        lambda: _protection(office),
    )


def _protection(office: Office) -> ProtectionFacts:
    """Return how the places of the plan are protected; nothing of that where it says nothing of it."""
    now, undoing = protect.now_of(office), undoing_of(office)
    unversioned = unversioned_documents(office, undoing)
    less = {system: one.less for system, one in undoing.items() if one.less}
    if not office.plan.protection.is_said:
        return ProtectionFacts(now, unversioned=unversioned, less=less)
    administrators = {
        one.person
        for system, some in office.principals.items()
        for one in some
        if office.readers[system].terms.model.overrides(one.holder) is not None
    }
    found = {system: protect.found_on(office, system) for system in office.readers}
    return ProtectionFacts(
        now, protect.ask(office, undoing=undoing), found, frozenset(administrators), unversioned, less
    )


def _trail(office: Office) -> TrailFacts:
    """Return what the records of what was done show in the last days."""
    systems = list(office.ledger.trail.covered())
    gaps: list[tuple[str, Gap]] = []
    last_read: dict[str, date | None] = {}
    earliest = office.today - timedelta(days=_DAYS)
    for name in systems_with_logs(office):
        coverage = coverage_of(office, name)
        last_read[name] = None if coverage is None else coverage.until.astimezone().date()
        recent = [] if coverage is None else coverage.gaps
        gaps += [(name, gap) for gap in recent if earliest <= gap.before.astimezone().date() <= office.today]
    return TrailFacts(systems, signs.ask(office) if systems else (), gaps, last_read)


def _former(office: Office) -> list[FormerAccount]:
    """Return what earlier counts had under logins whose identifier is another one now."""
    now = {(system, one.login): one for system, reader in office.readers.items() for one in reader.accounts}
    found: dict[tuple[str, str], FormerAccount] = {}
    for count in office.counts_until():
        for info in count.surveys:
            for one in office.ledger.read_survey(info).accounts:
                key = info.system, one.login
                if key in now and one.ident != now[key].ident:
                    found[key] = FormerAccount(info.system, one, count.day)
    return list(found.values())


def load_reviews(office: Office) -> ReviewFacts:
    """Return what was decided until the day of the question, the newest decision on each person and folder."""
    return ReviewFacts(office.ledger.reviews.last_reviewed(office.today), newest_decisions(office))


def _services(office: Office) -> list[ServiceFacts]:
    found = []
    for system, reader in office.readers.items():
        service = office.systems.service(system)
        if service is not None:
            judged = links.judge(office.plan, office.day, service, links.load_offers(reader, service))
            found.append(ServiceFacts(service, [(one.offer, one.breaches) for one in judged]))
    return found


def _system(office: Office, name: str) -> SystemFacts:
    reader, names = office.readers[name], office.names(name)
    planned = office.plan.systems.get(name, PlanSystem(name, "", {}))
    principals = [*office.systems.holders[name], stranger(reader.terms.model.everyone_has)]
    facts = SystemFacts(
        name=name,
        everyone=office.systems.everyone(name, principals, is_narrow=True),
        accounts=reader.accounts,
        groups=reader.groups,
        odd=reader.table("odd"),
        collisions=reader.table("collisions"),
        homes=match_homes(find_homes(reader, planned), reader.accounts),
        home_roots=planned.homes,
        not_seen=reader.not_seen,
        owner_name=names.owner,
        explain=_explainer(office, name, lambda row: facts.address(row)),
        names=names,
        is_service=office.systems.service(name) is not None,
        bodies=reader.strings("lists.body"),
    )
    return facts


def _explainer(
    office: Office, system: str, address_of: Callable[[int], Address]
) -> Callable[[int, Principal], Access]:
    def explain(row: int, principal: Principal) -> Access:
        return office.systems.access(find_location(office.readers[system], address_of(row)), [principal])

    return explain


def load_space(
    office: Office, views: Mapping[str, SpaceView] | None = None, history: History | None = None
) -> SpaceFacts:
    """Return what checks ask of space; what was read already need not be read again."""
    views = views or load_views(office)
    statuses = limits.ask(office, views)
    return SpaceFacts(
        statuses=statuses,
        promises=promises(office.plan, statuses, office.today),
        full_on=_full_on(office, history),
        kept={name: kept_versions(office, view, None) for name, view in views.items() if view.rules.versions},
        bins={name: bin_bytes(view) for name, view in views.items()},
        held={name: view.all_at(0).occupied for name, view in views.items()},
        barred=[each for view in views.values() for each in barred_on(office, view)],
        homes=[home for view in views.values() for home in _homes(office, view)],
        twice=[pair for view in views.values() for pair in view.seen_twice()],
    )


def _full_on(office: Office, history: History | None) -> Callable[[LimitStatus], When]:
    histories = [] if history is None else [history]
    known: dict[int, tuple[LimitStatus, When]] = {}

    def full_on(status: LimitStatus) -> When:
        # Several checks ask, and what was used at a hundred counts is not looked up for each.
        if id(status) not in known:
            known[id(status)] = status, meets(status)
        return known[id(status)][1]

    def meets(status: LimitStatus) -> When:
        limit = status.settings.limit
        if limit is UNLIMITED or status.amount >= limit:
            return When(Meeting.NOT_WITHIN if limit is UNLIMITED else Meeting.ALREADY)
        if not histories:
            histories.append(load_history(office))
        # Forecasts are slow to load: only where one is asked for.
        from neatledger.core.space.forecast import find_trend

        trend = find_trend(histories[0].used(status))
        return trend.meets(limit) if trend else When(Meeting.TOO_FEW)

    return full_on


def _homes(office: Office, view: SpaceView) -> list[HomeUse]:
    system = office.plan.systems.get(view.name)
    if system is None:
        return []
    found = []
    for home in find_homes(view.reader, system):
        row = view.row_of(home.address.path)
        if row is not None:
            figures = view.at(row)
            own = view.reader.folder_bytes(row)
            found.append(HomeUse(Address(view.name, home.address.path), figures.files, figures.bytes - own))
    return found
