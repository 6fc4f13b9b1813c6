"""What taking something back would take from whom, and what a sharing rule would catch before it is set."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.everyone import Everyone
from neatledger.core.people.principals import Principal
from neatledger.core.plan.rules import PlacedRule, RuleOn, SharingRule
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import FileLoss, Loss, find_file_losses, find_losses, take_back
from neatledger.core.tree.table import folder_paths
from neatledger.errors import UnknownNameError, UsageError
from neatledger.formats.nearest import or_else
from neatledger.ledger.reader import SurveyReader
from neatledger.questions import single_files
from neatledger.questions.links import JudgedOffer, JudgedOffers, judge, load_offers, services_of
from neatledger.questions.office import Office

__all__ = ["SupposedRule", "TakenBack", "ask_rule", "ask_take_back"]


@dataclass(frozen=True)
class TakenBack:
    """Who loses what on one service, and in words what is taken back; folders are known by row."""

    system: str
    losses: list[Loss]
    file_losses: list[FileLoss]
    principals: Sequence[Principal]
    path_of: Callable[[int], bytes]
    parents: Sequence[int]
    sentences: list[str]


@dataclass(frozen=True, slots=True)
class SupposedRule:
    """A rule with what it is put on, and the links and hand-outs that it would catch beside those caught already."""

    rule: PlacedRule
    caught: JudgedOffers


def ask_take_back(office: Office, what: Sequence[str]) -> TakenBack:
    """Return who would lose what if all of `what` were taken back; raises `UnknownNameError`, `UsageError`."""
    reader, before = _service_with(office, what[0])
    after, sentences, tops = before, [], []
    for word in what:
        after, sentence, top = take_back(after, word)
        sentences.append(sentence)
        tops.append(top)
    today, then = (Everyone(office.systems.matrix(reader, each)) for each in (before, after))
    folders = today.matrix.folders
    losses = find_losses(today, then, tops)
    parents = folders["parent"].tolist()
    files: list[FileLoss] = []
    for path in (path for path in single_files.paths_of(before) if any(_lies_in(path, top) for top in tops)):
        # A file that is not there any more nobody loses by this.
        ways = single_files.ways_at(office, reader, path, (before, after))
        files += find_file_losses(path, *ways) if ways else ()
    return TakenBack(reader.system, losses, files, before.principals, folder_paths(folders), parents, sentences)


def _lies_in(path: bytes, top: bytes) -> bool:
    return top == b"/" or path.startswith(top + b"/")


def _service_with(office: Office, what: str) -> tuple[SurveyReader, Service]:
    """Return the service that has something to take back."""
    sort = what.partition(":")[0]
    if sort not in ("link", "hand-out", "member", "guest"):
        hint = "write link:ID, hand-out:ID, member:FOLDER=HOLDER or guest:LOGIN"
        raise UsageError(f"{what!r} is nothing that can be taken back", hint=hint)
    fault: UnknownNameError | None = None
    for reader, service in services_of(office):
        try:
            take_back(service, what)
        except UnknownNameError as error:
            fault = error
        else:
            return reader, service
    assert fault is not None
    raise fault


def ask_rule(office: Office, rule: SharingRule, place: str) -> SupposedRule:
    """Return what a rule would catch, if it were set beside those of the plan; raises `UnknownNameError`.

    `place` is ``office``, a folder, a system or a person.
    """
    imagined = _placed(office, place, rule)
    sharing = office.plan.sharing
    plan = replace(office.plan, sharing=replace(sharing, rules=(*sharing.rules, imagined)))
    caught: list[JudgedOffer] = []
    names: dict[str, str] = {}
    total = 0
    for reader, service in services_of(office):
        names |= {principal.account.login: principal.person for principal in service.principals}
        offers = load_offers(reader, service)
        total += len(offers)
        was = {one.offer.name: one.breaches for one in judge(office.plan, office.day, service, offers)}
        for one in judge(plan, office.day, service, offers):
            more = [each for each in one.breaches if each not in was[one.offer.name]]
            if more:
                caught.append(JudgedOffer(one.offer, more))
    return SupposedRule(imagined, JudgedOffers(caught, names, total))


def _placed(office: Office, place: str, rule: SharingRule) -> PlacedRule:
    if place in ("", "office"):
        return PlacedRule(RuleOn.OFFICE, "", rule)
    if ":" in place:
        address = office.find_folder(place)
        return PlacedRule(RuleOn.FOLDER, address.path.decode("utf-8", "surrogateescape"), rule, address.system)
    if place in office.plan.systems:
        return PlacedRule(RuleOn.SYSTEM, place, rule)
    if place in office.plan.people:
        return PlacedRule(RuleOn.PERSON, place, rule)
    raise UnknownNameError(
        f"{place!r} is no folder, system or person of the plan",
        or_else(place, [*office.plan.systems, *office.plan.people], "or write: office"),
    )
