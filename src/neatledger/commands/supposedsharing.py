"""Imagined changes to what is shared: taking back, and a rule before it is set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from neatledger.app import App
from neatledger.commands.sharing import load_offers, put_to_rules, services_of
from neatledger.core.access.everyone import Everyone
from neatledger.core.plan.rules import PlacedRule, RuleOn, SharingRule
from neatledger.core.sharing.judging import Breach, Offer
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import find_losses, take_back
from neatledger.core.tree.table import folder_paths
from neatledger.errors import UnknownNameError, UsageError
from neatledger.formats.shared import Fields, rule_from
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.links import links_report
from neatledger.reports.report import Report
from neatledger.reports.takeback import takeback_report

__all__ = ["suppose_rules", "suppose_taking_back"]

_UNUSED = ("bytes", "occupied", "changed", "inode", "links", "specials", "first_odd", "odds", "default")
_SETTINGS = (
    *("guests", "domains", "open-links", "download", "link-days", "folder-days", "password", "largest"),
    *("barred-kinds", "pass-on", "chain", "single-files"),
)


def suppose_taking_back(app: App, words: Sequence[str]) -> Report:
    """Say who would lose what if all of `words` were taken back; raises `UnknownNameError`, `UsageError`."""
    reader, before = _service_with(app, words[0])
    after, sentences, tops = before, [], []
    for word in words:
        after, sentence, top = take_back(after, word)
        sentences.append(sentence)
        tops.append(top)
    tables = [Everyone(app.services.matrix(reader, _UNUSED, service=each)) for each in (before, after)]
    losses = find_losses(tables[0], tables[1], tops)
    folders = tables[0].matrix.folders
    return takeback_report(
        reader.system,
        losses,
        before.principals,
        folder_paths(folders),
        folders["parent"].tolist(),
        sentences,
        app.count.when,
        machine=app.options.format != "table",
    )


def _service_with(app: App, what: str) -> tuple[SurveyReader, Service]:
    """Return the service that has something to take back."""
    sort = what.partition(":")[0]
    if sort not in ("link", "hand-out", "member", "guest"):
        hint = "write link:ID, hand-out:ID, member:FOLDER=HOLDER or guest:LOGIN"
        raise UsageError(f"{what!r} is nothing that can be taken back", hint=hint)
    fault: UnknownNameError | None = None
    for reader, service in services_of(app):
        try:
            take_back(service, what)
        except UnknownNameError as error:
            fault = error
        else:
            return reader, service
    assert fault is not None
    raise fault


def suppose_rules(app: App, words: Sequence[str], place: str) -> Report:
    """List what rules would catch, if they were set beside those of the plan; raises `UsageError`."""
    imagined = _place(app, place, _rule(words))
    plan = replace(app.plan, sharing=replace(app.plan.sharing, rules=(*app.plan.sharing.rules, imagined)))
    caught: list[tuple[Offer, list[Breach]]] = []
    names: dict[str, str] = {}
    total = 0
    for reader, service in services_of(app):
        names |= {principal.account.login: principal.person for principal in service.principals}
        offers = load_offers(reader, service)
        total += len(offers)
        was = {offer.name: breaches for offer, breaches in put_to_rules(app.plan, app.services.day, service, offers)}
        for offer, breaches in put_to_rules(plan, app.services.day, service, offers):
            more = [each for each in breaches if each not in was[offer.name]]
            if more:
                caught.append((offer, more))
    day, machine = app.services.day.isoformat(), app.options.format != "table"
    report = links_report(caught, day, app.count.when, machine=machine, names=names, all_of=total)
    report.name = "suppose"
    rule = ", ".join(words)
    report.headline = (
        f"Suppose the rule {rule} for {imagined.describe()}: {len(caught)} of {total:,} would be caught."
    )
    report.notes.append("A rule ends nothing that is there: these would stay, outside of it. Nothing was changed.")
    return report


def _place(app: App, place: str, rule: SharingRule) -> PlacedRule:
    if place in ("", "office"):
        return PlacedRule(RuleOn.OFFICE, "", rule)
    if ":" in place:
        address = app.address(place)
        return PlacedRule(RuleOn.FOLDER, address.path.decode("utf-8", "surrogateescape"), rule, address.system)
    if place in app.plan.systems:
        return PlacedRule(RuleOn.SYSTEM, place, rule)
    if place in app.plan.people:
        return PlacedRule(RuleOn.PERSON, place, rule)
    raise UnknownNameError(f"{place!r} is no folder, system or person of the plan", hint="or write: office")


def _rule(words: Sequence[str]) -> SharingRule:
    row: dict[str, Any] = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not equals or key not in _SETTINGS:
            raise UsageError(f"{word!r} is no rule", hint=f"write SETTING=VALUE, of {', '.join(_SETTINGS)}")
        row[key] = value
    try:
        return rule_from(Fields(row))
    except ValueError as error:
        raise UsageError(str(error), hint="see docs/sharing.md") from None
