"""What a draft says of space and of sharing: bands, limits and pools, and the rules that sharing keeps to."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from neatledger.core.drafting.folders import Question
from neatledger.core.drafting.limits import DraftLimits, FoundOn, LimitDrafter
from neatledger.core.drafting.sharing import DraftRules, draft_rules
from neatledger.core.plan.limits import On, PlacedLimit
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import RuleOn
from neatledger.core.tree.patterns import match_path
from neatledger.ledger.reader import SurveyReader
from neatledger.questions.office import Office
from neatledger.questions.views import load_views

__all__ = ["draft_limits", "draft_pools", "draft_sharing"]

Ids = Mapping[tuple[str, str], str]
"""(system, login) → the person's id in the plan, or in the draft."""


def draft_limits(
    office: Office, ids: Ids, groups: Mapping[tuple[str, str], str], homes: Mapping[str, Sequence[bytes]]
) -> DraftLimits:
    """Return bands and limits for what systems tell and the plan says nothing of.

    `groups` are (system, what it calls a group) → the name in the plan or the draft; `homes` the folders of homes.
    """
    drafter = LimitDrafter(office.plan.space.bands)
    planned = office.plan.space.limits
    for system, view in load_views(office).items():
        reader = office.readers[system]
        found = []
        for one in view.found:
            # What is mounted has its size by itself, and what a quota group above holds is no place of the plan's.
            if not one.is_told or not one.is_own or one.by == "the file system mounted there":
                continue
            name = one.name
            if one.on is On.PERSON:
                name = _person_of(office, system, one.name, ids)
            elif one.on is On.GROUP:
                name = _group_of(reader, system, one.name, groups)
            is_said = name and _is_said(planned, system, one.on, name, office)
            if one.on is not On.POOL and name and not is_said:
                found.append(FoundOn(one.on, name, replace(one.settings, warn=())))
        parents = {one.name.rpartition("/")[0] for one in found if one.on is On.FOLDER and one.name != "/"}
        inside = {parent: _names_in(reader, parent) for parent in parents}
        staff = {
            ids[system, one.account.login]: None
            for one in office.principals[system]
            if one.kind is Kind.STAFF and (system, one.account.login) in ids
        }
        drafter.add(system, found, inside, [os.fsdecode(path) for path in homes.get(system, ())], staff)
    return drafter.found


def _person_of(office: Office, system: str, name: str, ids: Ids) -> str:
    for one in office.principals[system]:
        if name in (one.account.ident, one.account.login, one.person):
            return ids.get((system, one.account.login), "")
    return ""


def _group_of(reader: SurveyReader, system: str, name: str, groups: Mapping[tuple[str, str], str]) -> str:
    called = next((one.name for one in reader.groups if name in (one.ident, one.name)), name)
    return groups.get((system, called), "")


def _is_said(planned: Sequence[PlacedLimit], system: str, on: On, name: str, office: Office) -> bool:
    for one in planned:
        if one.on is on and one.system == system:
            if on is On.FOLDER and match_path(os.fsencode(one.name), os.fsencode(name)):
                return True
            if on is not On.FOLDER and (one.name == name or office.plan.is_holder(one.name, name)):
                return True
    return False


def _names_in(reader: SurveyReader, parent: str) -> list[str]:
    chain, missing = reader.find_path(os.fsencode(parent))
    return [] if missing is not None else [os.fsdecode(name) for name in reader.child_names(chain[-1])]


def draft_pools(office: Office) -> dict[str, tuple[str, ...]]:
    """Return pools that several systems lie in, by name: trees of one machine on one file system."""
    said = {key.partition(":")[0] for pool in office.plan.space.pools.values() for key in pool.holds}
    on_disk: dict[tuple[str, int], list[str]] = {}
    for system, view in load_views(office).items():
        if view.machine and system not in said and view.folders.rows:
            on_disk.setdefault((view.machine, int(view.folders["device"][0])), []).append(system)
    shared = [systems for systems in on_disk.values() if len(systems) > 1]
    names = ["disk", *(f"disk-{number}" for number in range(2, len(shared) + 2))]
    free = [name for name in names if name not in office.plan.space.pools and name not in office.plan.systems]
    return {name: tuple(f"{system}:/" for system in systems) for name, systems in zip(free, shared, strict=False)}


def draft_sharing(office: Office, ids: Ids) -> dict[str, DraftRules]:
    """Return the rules of every service that the plan has no rules for."""
    said: Collection[str] = {one.name for one in office.plan.sharing.rules if one.on is RuleOn.SYSTEM}
    found = {}
    for system, reader in office.readers.items():
        shared = reader.shared
        if shared is None or system in said:
            continue
        kinds = {one.account.login: one.kind for one in office.principals[system]}
        rules = draft_rules(
            system,
            shared,
            office.day,
            lambda name, kinds=kinds: kinds[name] is Kind.GUEST if name in kinds else None,  # type: ignore[misc]
        )
        known, rules.others = rules.others, []
        for one in known:
            if one.on is RuleOn.PERSON:
                person = ids.get((system, one.name))
                if person is None:
                    rules.questions.append(Question(f"{system}: {one.name}", "has a rule of sharing of their own"))
                    continue
                one = replace(one, name=person)
            rules.others.append(one)
        found[system] = rules
    return found
