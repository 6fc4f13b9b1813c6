"""Every day, number and word that decides, one off on either side, on offices built in memory."""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path

import pytest

from neatledger.core.access.everyone import Everyone
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.shares import Share, SystemTerms
from neatledger.core.checks.contract import (
    HomeUse,
    OfficeFacts,
    ServiceFacts,
    SpaceFacts,
    SystemFacts,
    stranger,
)
from neatledger.core.checks.table import CHECKS, find_acceptance, run_checks
from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.contract import ItemContext, Maker
from neatledger.core.lists.descriptors import (
    DACL_PRESENT,
    Ace,
    AceType,
    Acl,
    Descriptor,
    ace_of_body,
    is_sid,
    pack_acl,
    pack_sid,
    unpack_acl,
    unpack_sid,
)
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.people.matching import propose
from neatledger.core.people.principals import FoundAccounts, Principal, find_principals
from neatledger.core.plan.limits import UNLIMITED, On, PlacedLimit, Pool
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.rules import SharingRule
from neatledger.core.plan.space import SpaceRules
from neatledger.core.sharing.exposing import Exposer
from neatledger.core.sharing.gates import member_gate
from neatledger.core.sharing.holders import principals_beside
from neatledger.core.sharing.judging import Exposed, judge_offer, offers_of
from neatledger.core.sharing.lapses import lapses_of_principals
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import Loss
from neatledger.core.space.limit_table import (
    LimitStatus,
    LimitTarget,
    PoolFolders,
    held_by_sums,
    join_pools,
    pool_statuses,
)
from neatledger.core.space.promises import Promise, promises
from neatledger.core.space.room import Newcomer, find_room
from neatledger.core.space.sizes import show_size
from neatledger.core.space.supposing import Supposed, suppose_join, suppose_limit
from neatledger.core.space.versions import KeptVersions
from neatledger.core.space.when import Meeting, When
from neatledger.core.survey.accounts import Account, AccountState, Admission, Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.survey.shared import Audience, Device, HandOut, Link, Member, Reply, Shared, TeamFolder, Towards
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS, LARGE_BYTES
from neatledger.core.tree.order import TreeOrder
from neatledger.errors import FormatError, UnknownNameError
from neatledger.office.read import parse_plan
from recording import worded
from strategies import _table, table_of_rows

DAY = date(2026, 6, 15)
READ, WRITE, MANAGE = (with_view(LEVEL_RIGHTS[level]) for level in (Level.READ, Level.WRITE, Level.MANAGE))
BASE = """office: X
systems: {{meadow: {{source: listing, path: t.csv, lists: role{space}}}}}
people:
  ada: {{name: Ada, email: ada@x.example, accounts: {{meadow: ada}}}}
{more}"""


def ago(days: int) -> date:
    """The day so many days before today; before zero, after it."""
    return DAY - timedelta(days=days)


def plan(more: str = "", space: str = "") -> Plan:
    space = f", space: {{{space}}}" if space else ""
    return replace(parse_plan(BASE.format(more=more, space=space), "office.yaml"), today=DAY)


def guest(**admission) -> Account:
    return Account("gus", "5009", "", "Gus", "gus@out.example", admission=Admission(is_guest=True, **admission))


def facts(
    office: Plan | None = None,
    accounts: tuple[Account, ...] = (),
    shared: Shared | None = None,
    *,
    exposed: Exposed | None = None,
    homes: tuple[bytes, ...] = (),
    lines: tuple[LimitStatus, ...] = (),
    full: When | None = None,
    space: dict | None = None,
) -> OfficeFacts:
    """The facts of one service with an empty tree, its accounts (ada beside those given) and what it shares."""
    office = office or plan()
    found = (Account("ada", "1", "", "Ada", "ada@x.example"), *accounts)
    held = find_principals(office, {"meadow": FoundAccounts(found, ())})["meadow"]
    names = {"name": [b""], "parent": [-1], "first_child": [1]}
    folders = _table(names, COLUMNS["folders"])
    classes = table_of_rows([], "classes")
    terms = SystemTerms(MODELS["posix"], True)
    body = posix.pack_body(0o700, 0)
    matrix = Matrix(folders, classes, [body], ["0"], [*held, stranger()], terms=terms)
    none = {kind: table_of_rows([], kind) for kind in ("odd", "collisions")}
    system = SystemFacts(
        "meadow", Everyone(matrix), found, (), none["odd"], none["collisions"], (), homes, (), str,
        lambda row, who: None, None,
    )  # fmt: skip
    given = shared or Shared()
    service = Service("meadow", given, [*held, *principals_beside("meadow", given, held, office)], {}, DAY)
    judged = []
    by_id = {one.id: one for one in given.hand_outs}
    for offer in offers_of(service, {one.path: exposed for one in (*given.links, *given.hand_outs)}):
        rule = office.sharing.rule_at(offer.address, (offer.maker,))
        judged.append((offer, judge_offer(offer, rule, service, office, DAY, by_id)))
    whole = {"promises": (), "kept": {}, "bins": {}, "held": {}, "barred": (), "homes": (), "twice": ()}
    of_space = SpaceFacts(statuses=lines, full_on=lambda line: full or When(Meeting.TOO_FEW), **whole | (space or {}))
    return OfficeFacts(office, [system], DAY, lambda: of_space, lambda: [ServiceFacts(service, judged)])


def link(**more) -> Shared:
    usual = {"made": ago(10), "last_used": ago(1), "expires": ago(-20), "password": True}
    named = {"maker": "ada", "path": b"/t", "rights": READ, "audience": Audience.ANYONE}
    return Shared(links=(Link("k", **named | usual | more),))


def team(**more) -> Shared:
    members = more.pop("members", (Member("ada", False, READ),))
    return Shared(teams=(TeamFolder(b"/t", "t", members, **more),))


def handed(**more) -> Shared:
    usual = {"made": ago(10), "expires": ago(-20)}
    return Shared(hand_outs=(HandOut("h", "ada", "bo@out.example", Towards.OUTSIDE, b"/t", READ, **usual | more),))


def of_folder(used: int, limit: object = 1000, **more) -> LimitStatus:
    """A folder whose limit the plan says; `found` is what the system has."""
    own = {"limit": limit, **{key: more.pop(key) for key in ("enforced", "grace_days", "warn") if key in more}}
    placed = PlacedLimit(On.FOLDER, "meadow:/a", "meadow", "/a", more.pop("band", None), own)
    return LimitStatus(LimitTarget(On.FOLDER, "meadow", "/a"), used, placed, **more)


def found_limit(limit: object, enforced: bool = True, **more: int) -> FoundLimit:
    return FoundLimit(On.FOLDER, "/a", limit, enforced, **more)


def settings(**said: int) -> Plan:
    words = "".join(f"  {key.replace('_', '-')}: {value}\n" for key, value in said.items())
    return plan(f"settings:\n{words}")


def rule(**said: object) -> Plan:
    words = "".join(f"    {key.replace('_', '-')}: {value}\n" for key, value in said.items())
    return plan(f"sharing:\n  office:\n{words}")


def leaver(end: date) -> Plan:
    return plan(f"  gus: {{name: Gus, email: g@x.example, end: {end}, accounts: {{meadow: gus}}}}\n")


def posted(posts: str, more: str = "", groups: str = "{vets: {}}", folders: str = "{}") -> Plan:
    """An office of two posts: vets may have no copies on devices, nurses on managed ones; ada holds none, as a service."""
    text = f"  gus: {{name: Gus, email: g@x.example, accounts: {{meadow: gus}}, posts: [{posts}]{more}}}\n"
    text += "posts: {vet: {groups: [vets], devices: none}, nurse: {devices: managed}}\n"
    found = plan(f"{text}groups: {groups}\nfolders: {folders}\n")
    return replace(found, people=found.people | {"ada": replace(found.people["ada"], kind=Kind.SERVICE)})


def pool(**more) -> LimitStatus:
    return LimitStatus(LimitTarget(On.POOL, "meadow", "meadow"), pool=Pool("meadow", ("meadow:/",), 1000), **more)


OVER = Address("meadow", b"/Homes")
GUS, OFF = Account("gus", "5009", "", "Gus", "gus@x.example"), AccountState.DISABLED
DEVICE = Device("d", "gus", "book", state="linked")
ROOT = Account("root", "0", "", "Gus")
TWO = plan("  gus: {name: Gus, email: g@x.example, accounts: {meadow: [gus, root]}}\n")
SOON = When(Meeting.ON, ago(-90), ago(-80), ago(-99))
KEPT = KeptVersions("psd", 10, 100, 2, 100, 0, 50, 1100)
# Check, what it finds, and what is one off and not found.
ROWS: list[tuple[str, Callable[[], OfficeFacts], Callable[[], OfficeFacts]]] = [
    ("guest-idle", lambda: facts(None, (replace(guest(), last_seen=ago(91)),)), lambda: facts(None, (replace(guest(), last_seen=ago(90)),))),
    ("guest-idle", lambda: facts(settings(guest_idle_days=7), (guest(accepted=ago(8)),)), lambda: facts(settings(guest_idle_days=7), (guest(accepted=ago(7)),))),
    ("guest-idle", lambda: facts(None, (replace(guest(), last_seen=ago(91)),)), lambda: facts(None, (replace(guest(), last_seen=ago(91), state=OFF),))),
    ("guest-without-inviter", lambda: facts(None, (guest(),)), lambda: facts(None, (guest(inviter="ada"),))),
    ("guest-without-inviter", lambda: facts(None, (guest(),)), lambda: facts(None, (replace(guest(), state=OFF),))),
    ("guest-not-planned", lambda: facts(None, (guest(),)), lambda: facts(plan("  gus: {name: Gus, kind: guest, accounts: {meadow: gus}}\n"), (guest(),))),
    ("invitation-waiting", lambda: facts(None, (guest(invited=ago(31)),)), lambda: facts(None, (guest(invited=ago(30)),))),
    ("invitation-waiting", lambda: facts(settings(invitation_days=5), (guest(invited=ago(6)),)), lambda: facts(settings(invitation_days=5), (guest(invited=ago(6), accepted=ago(5)),))),
    ("invitation-waiting", lambda: facts(None, (guest(invited=ago(31)),)), lambda: facts(None, (replace(guest(invited=ago(31)), last_seen=ago(1)),))),
    ("left-but-open", lambda: facts(leaver(ago(1)), (GUS,)), lambda: facts(leaver(DAY), (GUS,))),
    ("left-but-open", lambda: facts(leaver(ago(1)), (GUS,)), lambda: facts(leaver(ago(1)), (replace(GUS, state=OFF),))),
    ("account-missing", lambda: facts(leaver(DAY)), lambda: facts(leaver(ago(1)))),
    ("no-email", lambda: facts(plan(f"  bo: {{name: Bo, end: {DAY}}}\n")), lambda: facts(plan(f"  bo: {{name: Bo, end: {ago(1)}}}\n"))),
    ("no-email", lambda: facts(plan(f"  bo: {{name: Bo, start: {DAY}}}\n")), lambda: facts(plan(f"  bo: {{name: Bo, start: {ago(-1)}}}\n"))),
    ("no-email", lambda: facts(None, (replace(GUS, email="", admission=Admission(roles=frozenset({"user"}))),)), lambda: facts(None, (replace(GUS, email="", admission=Admission()),))),
    ("too-many-administrators", lambda: facts(settings(most_administrators=0), (replace(GUS, ident="0"),)), lambda: facts(settings(most_administrators=1), (replace(GUS, ident="0"),))),
    ("device-of-leaver", lambda: facts(leaver(ago(1)), (GUS,), Shared(devices=(DEVICE,))), lambda: facts(leaver(DAY), (GUS,), Shared(devices=(DEVICE,)))),
    ("device-of-leaver", lambda: facts(None, (replace(GUS, state=OFF),), Shared(devices=(DEVICE,))), lambda: facts(None, (GUS,), Shared(devices=(DEVICE,)))),
    ("device-of-leaver", lambda: facts(None, (), Shared(devices=(DEVICE,))), lambda: facts(None, (), Shared(devices=(replace(DEVICE, state="wiped"),)))),
    ("device-lost", lambda: facts(None, (GUS,), Shared(devices=(replace(DEVICE, state="lost"),))), lambda: facts(None, (GUS,), Shared(devices=(DEVICE,)))),
    ("unmanaged-device", lambda: facts(plan("sharing: {sensitive: ['meadow:/t/x']}\n"), (GUS,), Shared(devices=(replace(DEVICE, managed=False, folders=(b"/t",)),))), lambda: facts(plan("sharing: {sensitive: ['meadow:/t/x']}\n"), (GUS,), Shared(devices=(replace(DEVICE, managed=None, folders=(b"/t",)),)))),
    ("password-old", lambda: facts(None, (replace(GUS, admission=Admission(password_set=ago(366))),)), lambda: facts(None, (replace(GUS, admission=Admission(password_set=ago(365))),))),
    ("password-never-changed", lambda: facts(None, (replace(GUS, admission=Admission(is_first_password=True)),)), lambda: facts(None, (GUS,))),
    ("entitled-but-unused", lambda: facts(None, (replace(GUS, last_seen=ago(91), admission=Admission(entitlements=("gold",))),)), lambda: facts(None, (replace(GUS, last_seen=ago(90), admission=Admission(entitlements=("gold",))),))),
    ("entitled-but-unused", lambda: facts(None, (replace(GUS, last_seen=ago(1), may_use=False, admission=Admission(entitlements=("gold",))),)), lambda: facts(None, (replace(GUS, last_seen=ago(1), admission=Admission(entitlements=("gold",))),))),
    ("administrator-without-second-factor", lambda: facts(None, (replace(GUS, admission=Admission(roles=frozenset({"administrator"}), second_factor=False)),)), lambda: facts(None, (replace(GUS, admission=Admission(roles=frozenset({"administrator"}))),))),
    ("ends-soon", lambda: facts(shared=link(expires=ago(-7))), lambda: facts(shared=link(expires=ago(-8)))),
    ("ends-soon", lambda: facts(shared=link(expires=ago(-7), last_used=ago(35))), lambda: facts(shared=link(expires=ago(-7), last_used=ago(36)))),
    ("ends-soon", lambda: facts(shared=link(expires=ago(0))), lambda: facts(shared=link(expires=ago(1)))),
    ("ends-soon", lambda: facts(shared=link(expires=ago(-7))), lambda: facts(shared=link(expires=ago(-7), last_used=None))),
    ("ended-but-on", lambda: facts(shared=link(expires=ago(1))), lambda: facts(shared=link(expires=ago(0)))),
    ("ended-but-on", lambda: facts(shared=link(expires=ago(1))), lambda: facts(shared=link(expires=ago(1), is_on=False))),
    ("link-unused", lambda: facts(shared=link(last_used=ago(181))), lambda: facts(shared=link(last_used=ago(180)))),
    ("link-unused", lambda: facts(shared=link(last_used=None, made=ago(181))), lambda: facts(shared=link(last_used=None, made=ago(180)))),
    ("no-end", lambda: facts(shared=link(expires=None)), lambda: facts(shared=link())),
    ("no-end", lambda: facts(rule(link_days=30), shared=handed(expires=None)), lambda: facts(shared=handed(expires=None))),
    ("ends-too-late", lambda: facts(rule(link_days=29), shared=link()), lambda: facts(rule(link_days=30), shared=link())),
    ("ends-too-late", lambda: facts(rule(link_days=19), shared=link(made=None)), lambda: facts(rule(link_days=20), shared=link(made=None))),
    ("no-password", lambda: facts(shared=link(password=False)), lambda: facts(rule(password="false"), shared=link(password=False))),
    ("no-password", lambda: facts(rule(password="true"), shared=link(password=False, audience=Audience.OFFICE)), lambda: facts(shared=link(password=False, audience=Audience.OFFICE))),
    ("not-encrypted", lambda: facts(shared=link(encrypted=False)), lambda: facts(shared=link())),
    ("anyone-may-change", lambda: facts(shared=link(rights=WRITE)), lambda: facts(shared=link(rights=WRITE, audience=Audience.OFFICE))),
    ("beyond-the-rules", lambda: facts(rule(open_links="read"), shared=link(rights=WRITE)), lambda: facts(rule(open_links="read"), shared=link())),
    ("beyond-the-rules", lambda: facts(rule(download="false"), shared=link()), lambda: facts(rule(download="false"), shared=link(download=False))),
    ("beyond-the-rules", lambda: facts(rule(guests="none"), shared=link(audience=Audience.GUESTS)), lambda: facts(rule(guests="invited"), shared=link(audience=Audience.GUESTS))),
    ("shared-too-large", lambda: facts(rule(largest="1 kB"), shared=link(), exposed=Exposed(1, 1001, (), 0, 1001)), lambda: facts(rule(largest="1 kB"), shared=link(), exposed=Exposed(1, 1000, (), 0, 1000))),
    ("shared-too-large", lambda: facts(rule(largest="0 B"), shared=link(), exposed=Exposed(1, 1, (), 0, 1)), lambda: facts(rule(largest="no limit"), shared=link(), exposed=Exposed(1, 1, (), 0, 1))),
    ("shared-though-barred", lambda: facts(rule(barred_kinds="[EXE]"), shared=link(), exposed=Exposed(1, 1, ("exe",), 0)), lambda: facts(rule(barred_kinds="[EXE]"), shared=link(), exposed=Exposed(1, 1, ("ex",), 0))),
    ("target-gone", lambda: facts(shared=link()), lambda: facts(shared=link(), exposed=Exposed(0, 0, (), 0))),
    ("maker-gone", lambda: facts(leaver(ago(1)), (GUS,), link(maker="gus")), lambda: facts(leaver(DAY), (GUS,), link(maker="gus"))),
    ("maker-gone", lambda: facts(None, (replace(GUS, state=OFF),), link(maker="gus")), lambda: facts(None, (GUS,), link(maker="gus"))),
    ("handed-outside", lambda: facts(shared=handed()), lambda: facts(shared=handed(expires=ago(1)))),
    ("homes-opened", lambda: facts(shared=team(over=OVER), homes=(b"/Homes",)), lambda: facts(shared=team(over=OVER, is_on=False), homes=(b"/Homes",))),
    ("homes-opened", lambda: facts(shared=team(over=OVER, ends=DAY), homes=(b"/Homes",)), lambda: facts(shared=team(over=OVER, ends=ago(1)), homes=(b"/Homes",))),
    ("homes-opened", lambda: facts(shared=team(over=OVER), homes=(b"/Homes/a",)), lambda: facts(shared=team(over=OVER), homes=(b"/Home",))),
    ("homes-opened", lambda: facts(shared=link(path=b"/Homes"), homes=(b"/Homes",)), lambda: facts(shared=link(path=b"/Homes/a"), homes=(b"/Homes",))),
    ("granted-not-published", lambda: facts(shared=team(is_on=False)), lambda: facts(shared=team())),
    ("published-for-nobody", lambda: facts(shared=team(members=())), lambda: facts(shared=team())),
    ("team-lives-too-long", lambda: facts(rule(folder_days=9), shared=team(ends=ago(-10))), lambda: facts(rule(folder_days=10), shared=team(ends=ago(-10)))),
    ("team-lives-too-long", lambda: facts(rule(folder_days=9), shared=team()), lambda: facts(rule(folder_days=9), shared=team(is_on=False))),
    ("daily-administrator", lambda: facts(TWO, (ROOT,)), lambda: facts(TWO, (ROOT, GUS))),
    ("daily-administrator", lambda: facts(TWO, (ROOT, replace(GUS, state=OFF))), lambda: facts(TWO, (replace(ROOT, state=OFF),))),
    ("needs-entitlement", lambda: facts(None, (replace(GUS, is_entitled=False),), team(members=(Member("gus", False, READ),))), lambda: facts(None, (GUS,), team(members=(Member("gus", False, READ),)))),
    ("needs-entitlement", lambda: facts(plan(f"  gus: {{name: Gus, end: {DAY}, accounts: {{meadow: gus}}}}\nfolders: {{'meadow:/t': {{grants: {{gus: read}}}}}}\n"), (replace(GUS, is_entitled=False),)), lambda: facts(None, (replace(GUS, is_entitled=False),), team())),
    ("files-run-out", lambda: facts(lines=(of_folder(1, found=found_limit(1000, items=10, items_used=9)),)), lambda: facts(lines=(of_folder(1, found=found_limit(1000, items=100, items_used=89)),))),
    ("files-run-out", lambda: facts(lines=(of_folder(1, found=found_limit(1000, items=10, items_used=8), warn=((80, ()),)),)), lambda: facts(lines=(of_folder(1, found=found_limit(1000, items=10, items_used=7), warn=((80, ()),)),))),
    ("member-missing", lambda: facts(plan("folders: {'meadow:/u': {grants: {ada: none}}, 'meadow:/t': {grants: {ada: read}}}\n"), shared=team(members=())), lambda: facts(plan("folders: {'meadow:/u': {grants: {ada: read}}, 'meadow:/t': {grants: {ada: none}}}\n"), shared=team(members=()))),
    ("member-missing", lambda: facts(plan("folders: {'meadow:/t': {grants: {ada: read}}}\n"), shared=team(members=(Member("ada", False, READ, Reply.WAITING),))), lambda: facts(plan("folders: {'meadow:/t': {grants: {ada: read}}}\n"), shared=team(members=(Member("ada", False, READ),)))),
    ("below-use", lambda: facts(lines=(of_folder(1001),)), lambda: facts(lines=(of_folder(1000),))),
    ("limit-not-enforced", lambda: facts(lines=(of_folder(1, found=found_limit(1000, False)),)), lambda: facts(lines=(of_folder(1, found=found_limit(1000)),))),
    ("limit-not-enforced", lambda: facts(lines=(of_folder(1, found=found_limit(UNLIMITED)),)), lambda: facts(lines=(of_folder(1, found=found_limit(UNLIMITED), enforced=False),))),
    ("limit-differs", lambda: facts(lines=(of_folder(1, found=found_limit(1001)),)), lambda: facts(lines=(of_folder(1, found=found_limit(1000)),))),
    ("ambiguous-zero", lambda: facts(lines=(of_folder(1, found=found_limit(0)),)), lambda: facts(lines=(of_folder(1, found=found_limit(1)),))),
    ("suspicious-unit", lambda: facts(lines=(of_folder(1, limit=1024, found=found_limit(1000)),)), lambda: facts(lines=(of_folder(1, limit=1025, found=found_limit(1000)),))),
    ("suspicious-unit", lambda: facts(lines=(of_folder(1, limit=10**9, found=found_limit(2**30)),)), lambda: facts(lines=(of_folder(1, limit=10**9, found=found_limit(2**30 + 2**20)),))),
    ("suspicious-unit", lambda: facts(lines=(of_folder(1, limit=7, found=found_limit(7000)),)), lambda: facts(lines=(of_folder(1, limit=7, found=found_limit(7001)),))),
    ("warning-to-nobody", lambda: facts(lines=(of_folder(1, warn=((80, ("bo",)),)),)), lambda: facts(lines=(of_folder(1, warn=((80, ("ada",)),)),))),
    ("unlimited-in-pool", lambda: facts(lines=(of_folder(1, UNLIMITED),), space={"promises": (Promise("disk", 10, 1, 1, 1, 0, 1),)}), lambda: facts(lines=(of_folder(1, 5),), space={"promises": (Promise("disk", 10, 1, 1, 1, 0, 1),)})),
    ("full-soon", lambda: facts(lines=(of_folder(1),), full=SOON), lambda: facts(lines=(of_folder(1),), full=replace(SOON, day=ago(-91)))),
    ("full-soon", lambda: facts(settings(full_within_days=91), lines=(of_folder(1),), full=replace(SOON, day=ago(-91))), lambda: facts(lines=(of_folder(1000),), full=SOON)),
    ("overpromised", lambda: facts(space={"promises": (Promise("disk", 10, 1, 11, 1, 0, 1),)}), lambda: facts(space={"promises": (Promise("disk", 11, 1, 11, 1, 0, 1),)})),
    ("beyond-entitlement", lambda: facts(lines=(of_folder(1, entitled=999),)), lambda: facts(lines=(of_folder(1, entitled=1000),))),
    ("versions-eat-limit", lambda: facts(lines=(pool(used=1),), space={"kept": {"meadow": [KEPT]}}), lambda: facts(lines=(pool(used=0),), space={"kept": {"meadow": [KEPT]}})),
    ("bin-for-ever", lambda: facts(plan(space="keep-bin-days: for ever"), space={"bins": {"meadow": 5}, "held": {"meadow": 100}}), lambda: facts(plan(space="keep-bin-days: for ever"), space={"bins": {"meadow": 5}, "held": {"meadow": 101}})),
    ("starter-home", lambda: facts(plan(space="starter: {files: 3, size: 9 B}"), space={"homes": [HomeUse(OVER, 3, 9)]}), lambda: facts(plan(space="starter: {files: 3, size: 9 B}"), space={"homes": [HomeUse(OVER, 3, 10)]})),
    ("starter-home", lambda: facts(plan(space="starter: {files: 3, size: 9 B}"), space={"homes": [HomeUse(OVER, 0, 0)]}), lambda: facts(plan(space="starter: {files: 3, size: 9 B}"), space={"homes": [HomeUse(OVER, 4, 9)]})),
    ("post-over", lambda: facts(posted(f"{{post: vet, until: {ago(1)}}}"), (GUS,)), lambda: facts(posted(f"{{post: vet, until: {DAY}}}"), (GUS,))),
    ("post-over", lambda: facts(posted(f"{{post: vet, until: {ago(1)}}}"), (GUS,)), lambda: facts(posted(f"{{post: vet, until: {ago(1)}}}, nurse"), (GUS,))),
    ("no-post", lambda: facts(posted(f"{{post: vet, from: {ago(-1)}}}"), (GUS,)), lambda: facts(posted(f"{{post: vet, from: {DAY}}}"), (GUS,))),
    ("post-vacant", lambda: facts(posted(f"{{post: vet, from: {ago(-1)}}}, nurse"), (GUS,)), lambda: facts(posted("vet, nurse"), (GUS,))),
    ("beyond-posts", lambda: facts(posted("nurse", groups="{vets: {members: [gus]}}"), (GUS,)), lambda: facts(posted("vet", groups="{vets: {members: [gus]}}"), (GUS,))),
    ("beyond-posts", lambda: facts(posted("vet", groups="{vets: {}, two: {members: [gus]}}"), (GUS,)), lambda: facts(posted("vet", ", beyond: [{group: two, because: so}]", "{vets: {}, two: {members: [gus]}}"), (GUS,))),
    ("beyond-posts", lambda: facts(posted("vet", folders="{'meadow:/t': {grants: {gus: read}}}"), (GUS,)), lambda: facts(posted("vet", ", beyond: [{folder: 'meadow:/t', because: so}]", folders="{'meadow:/t': {grants: {gus: read}}}"), (GUS,))),
    ("beyond-over", lambda: facts(posted("vet", f", beyond: [{{group: two, until: {ago(1)}, because: so}}]", "{vets: {}, two: {members: [gus]}}"), (GUS,)), lambda: facts(posted("vet", f", beyond: [{{group: two, until: {DAY}, because: so}}]", "{vets: {}, two: {members: [gus]}}"), (GUS,))),
    ("beyond-over", lambda: facts(posted("vet", f", beyond: [{{folder: 'meadow:/t', until: {ago(1)}, because: so}}]", folders="{'meadow:/t': {grants: {gus: read}}}"), (GUS,)), lambda: facts(posted("vet", f", beyond: [{{group: two, until: {ago(1)}, because: so}}]", "{vets: {}, two: {}}"), (GUS,))),
    ("no-successor", lambda: facts(leaver(ago(1)), (GUS,)), lambda: facts(leaver(DAY), (GUS,))),
    ("no-successor", lambda: facts(leaver(ago(1)), (GUS,)), lambda: facts(plan(f"  gus: {{name: Gus, end: {ago(1)}, successor: ada, accounts: {{meadow: gus}}}}\n"), (GUS,))),
    ("manager-gone", lambda: facts(leaver(ago(1)), (GUS,), team(members=(Member("gus", False, MANAGE),))), lambda: facts(leaver(DAY), (GUS,), team(members=(Member("gus", False, MANAGE),)))),
    ("manager-gone", lambda: facts(None, (replace(GUS, state=OFF),), team(members=(Member("gus", False, MANAGE), Member("ada", False, WRITE)))), lambda: facts(None, (replace(GUS, state=OFF),), team(members=(Member("gus", False, MANAGE), Member("ada", False, MANAGE))))),
    ("asked-but-gone", lambda: facts(plan(f"  gus: {{name: Gus, end: {ago(1)}}}\nfolders: {{'meadow:/t': {{decides: gus}}}}\n")), lambda: facts(plan(f"  gus: {{name: Gus, end: {DAY}}}\nfolders: {{'meadow:/t': {{decides: gus}}}}\n"))),
    ("account-idle", lambda: facts(posted("nurse"), (replace(GUS, last_seen=ago(181)),)), lambda: facts(posted("nurse"), (replace(GUS, last_seen=ago(180)),))),
    ("account-idle", lambda: facts(posted("nurse"), (GUS, replace(ROOT, last_seen=DAY))), lambda: facts(posted("nurse"), (GUS, ROOT))),
    ("device-beyond-post", lambda: facts(posted("vet"), (GUS,), Shared(devices=(DEVICE,))), lambda: facts(posted("vet, nurse"), (GUS,), Shared(devices=(replace(DEVICE, managed=True),)))),
    ("device-beyond-post", lambda: facts(posted("nurse"), (GUS,), Shared(devices=(replace(DEVICE, managed=False),))), lambda: facts(posted("nurse"), (GUS,), Shared(devices=(DEVICE,)))),
    ("warning-to-nobody", lambda: facts(plan("notices: {tell: [{about: link}]}\n"), lines=(of_folder(1, warn=((80, ("ada",)),)),)), lambda: facts(plan("notices: {tell: [{about: link}, {about: limit}]}\n"), lines=(of_folder(1, warn=((80, ("ada",)),)),))),
]  # fmt: skip


@pytest.mark.parametrize(("check", "is_found", "is_not"), ROWS, ids=[f"{row[0]}-{n}" for n, row in enumerate(ROWS)])
def test_a_check_finds_this_and_nothing_one_off(check: str, is_found, is_not) -> None:
    (finding, *_) = run_checks(is_found(), [check])
    assert finding.check == check and finding.evidence and CHECKS[check].advice
    assert run_checks(is_not(), [check]) == []


@pytest.mark.parametrize(("check", "is_found", "is_not"), ROWS, ids=[f"{row[0]}-{n}" for n, row in enumerate(ROWS)])
def test_all_that_is_found_is_told_as_it_was(check: str, is_found, is_not, recorded) -> None:
    for_all = [[worded(one) for one in run_checks(office)] for office in (is_found(), is_not())]
    recorded({"beside": [one for one in for_all[0] if one in for_all[1]], "found": [one for one in for_all[0] if one not in for_all[1]],
              "not": [one for one in for_all[1] if one not in for_all[0]]})  # fmt: skip


DAYS = [
    (lambda day: plan(f"  bo: {{name: Bo, start: {DAY}, end: {DAY}}}\n").people["bo"].is_here(day), [False, True, False]),
    (lambda day: not TeamFolder(b"/t", "t", ends=DAY).why_closed(day), [True, True, False]),
    (lambda day: not HandOut("h", "a", "b", Towards.PERSON, b"/", READ, expires=DAY).why_dead(day), [True, True, False]),
    (lambda day: not Link("k", "a", b"/", READ, Audience.ANYONE, starts=DAY, expires=DAY).why_dead(day), [False, True, False]),
]  # fmt: skip


@pytest.mark.parametrize(("holds", "expected"), DAYS, ids=range(len(DAYS)))
def test_a_last_day_still_belongs_to_it(holds, expected) -> None:
    assert [bool(holds(ago(days))) for days in (1, 0, -1)] == expected


@pytest.mark.parametrize(("until", "holds"), [(ago(1), False), (DAY, True), (None, True)])
def test_an_acceptance_holds_to_its_last_day(until, holds: bool) -> None:
    until_word = f", until: {until}" if until else ""
    office = plan(f"accepted:\n  - {{check: no-email, place: bo, reason: so{until_word}}}\n  - {{check: no-end, place: bo, reason: so}}\n")  # fmt: skip
    office = replace(office, people=office.people | plan("  bo: {name: Bo}\n").people)
    known = facts(office)
    (finding,) = run_checks(known, ["no-email"])
    assert (find_acceptance(finding, "bo", known.plan, known.today) is not None) == holds


@pytest.mark.parametrize(("lapsing", "day"), [
    (replace(guest(), last_seen=ago(5)), ago(5 - 90)), (replace(guest(), last_seen=ago(5), state=OFF), ago(5 - 180)),
    (guest(accepted=ago(6)), ago(6 - 90)), (guest(ends=ago(-3)), ago(-3)), (guest(disable_on=ago(-4)), ago(-4)),
    (replace(guest(accepted=ago(6), remove_on=ago(-4)), state=OFF), ago(-4)),
])  # fmt: skip
def test_a_guest_lapses_on_the_day(lapsing: Account, day: date) -> None:
    held = find_principals(plan(), {"meadow": FoundAccounts((lapsing,), ())})["meadow"]
    assert [lapse.day for lapse in lapses_of_principals("meadow", held, plan())] == [day]


@pytest.mark.parametrize(("ident", "below", "kind"), [
    ("999", None, Kind.SERVICE), ("1000", None, Kind.STAFF), ("65534", None, Kind.SERVICE), ("499", 500, Kind.SERVICE),
    ("500", 500, Kind.STAFF), ("S-1-5-21-1-2-3-999", None, Kind.SERVICE), ("S-1-5-21-1-2-3-1000", None, Kind.STAFF),
    ("S-1-5-21-1-2-3-500", 500, Kind.SERVICE), ("abc", None, Kind.STAFF),
])  # fmt: skip
def test_people_begin_at_a_number(ident: str, below: int | None, kind: Kind) -> None:
    office = plan() if below is None else settings(service_uid_below=below)
    (held,) = find_principals(office, {"x": FoundAccounts((Account("bo", ident, ""),), ())})["x"]
    assert held.kind is kind


def test_accounts_are_people_of_the_plan_or_strangers_under_names_of_their_own() -> None:
    office = plan("  ben: {name: Ben, kind: service}\n  cy: {name: Cy}\n")
    ben = replace(office.people["ben"], accounts={"barn": ("77",)})
    office = replace(office, people={**office.people, "ben": ben})
    found = {
        "meadow": (Account("ada", "1", "", "A."), Account("cy", "2", ""), Account("dee", "3", "", "Dee"), Account("eve", "4", "")),
        "barn": (Account("b", "77", ""), Account("dee", "1003", ""), Account("staff", "1004", ""), Account("fay", "1005", "", admission=Admission(is_guest=True))),
    }  # fmt: skip
    held = find_principals(office, {name: FoundAccounts(some, ()) for name, some in found.items()})
    assert [(one.person, one.name, one.kind.value, one.is_planned) for one in (*held["meadow"], *held["barn"])] == [
        ("ada", "Ada", "staff", True), ("meadow/cy", "cy", "staff", False), ("meadow/dee", "Dee", "staff", False), ("eve", "eve", "staff", False),
        ("ben", "Ben", "service", True), ("barn/dee", "dee", "staff", False), ("barn/staff", "staff", "staff", False), ("fay", "fay", "guest", False),
    ]  # fmt: skip


GRACE = {"enforced": False, "grace_days": 14}
STATES = [
    (of_folder(999), "fine", True), (of_folder(1000), "full", True), (of_folder(1001), "over", True),
    (of_folder(800, warn=((80, ()),)), "past 80 %", True), (of_folder(799, warn=((80, ()),)), "fine", True),
    (of_folder(950, warn=((80, ()), (95, ()))), "past 95 %", True), (of_folder(5, UNLIMITED), "no limit", False),
    (of_folder(0, 0), "full", True), (of_folder(1, 0), "over", True),
    (of_folder(1001, enforced=False), "over, watched", False),
    (of_folder(1001, over_since=ago(13), **GRACE), "over, 1 day left", False),
    (of_folder(1001, over_since=ago(14), **GRACE), "over, grace is up", True),
    (of_folder(1001, over_since=ago(99), enforced=True, grace_days=14), "over", True),
    (of_folder(1000, over_since=None, **GRACE), "full", False),
    # Nobody says anything: the system tells no limits of the sort, or one that it does not show.
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5), "not told", False),
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5, is_reported=True), "no limit", False),
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5, found=FoundLimit(On.FOLDER, "/a", UNLIMITED, is_told=False)), "not told", False),
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5, found=FoundLimit(On.FOLDER, "/a", UNLIMITED, items=10, items_used=9)), "past 90 % of its files", False),
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5, found=FoundLimit(On.FOLDER, "/a", UNLIMITED, items=100, items_used=89)), "no limit", False),
    (LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 5, found=FoundLimit(On.FOLDER, "/a", 9, items=10, items_used=10)), "full: no more files", True),
]  # fmt: skip


FOUND = FoundLimit(On.FOLDER, "/a", 1000, used=900, kept_back=50, items=200, items_used=180)
FIGURES = [
    # what is used, beyond what was counted, left, how full, warned, files left, files warned
    (of_folder(999), (999, None, 1, 0.999, None, None, None)), (of_folder(1000), (1000, None, 0, 1.0, None, None, None)),
    (of_folder(1001), (1001, None, -1, 1.001, None, None, None)), (of_folder(0, 0), (0, None, 0, 1.0, None, None, None)),
    (of_folder(1, 0), (1, None, -1, 2.0, None, None, None)), (of_folder(7, UNLIMITED), (7, None, None, -1.0, None, None, None)),
    (of_folder(800, found=FOUND), (900, 100, 50, 0.9, None, 20, 90)),
    (of_folder(950, found=replace(FOUND, used=1000, items_used=179)), (1000, 50, 0, 1.0, None, 21, None)),
    (of_folder(950, found=replace(FOUND, used=1001, items_used=200)), (1001, 51, -1, 1.001, None, 0, 90)),
    (of_folder(700, warn=((70, ()), (80, ()))), (700, None, 300, 0.7, 70, None, None)),
    (of_folder(699, warn=((70, ()), (80, ()))), (699, None, 301, 0.699, None, None, None)),
    (of_folder(800, warn=((50, ()),), found=replace(FOUND, used=None, items_used=99)), (800, None, 200, 0.8, 50, 101, None)),
    (of_folder(800, warn=((50, ()),), found=replace(FOUND, used=None, items_used=100)), (800, None, 200, 0.8, 50, 100, 50)),
]  # fmt: skip


@pytest.mark.parametrize(("line", "figures"), FIGURES, ids=range(len(FIGURES)))
def test_the_figures_of_a_limit(line: LimitStatus, figures: tuple) -> None:
    found = line.amount, line.difference, line.left, line.fullness, line.warned, line.items_left, line.items_warned
    assert found == figures
    told = "20 left" if figures[5] == 20 else "none left" if figures[5] == 0 else ""
    assert told in line.items_words and bool(line.items_words) == (figures[5] is not None)


@pytest.mark.parametrize(("line", "state", "is_enforced"), STATES, ids=range(len(STATES)))
def test_the_state_of_a_limit(line: LimitStatus, state: str, is_enforced: bool) -> None:
    assert line.state(DAY) == state and line.is_enforced(DAY) == is_enforced
    assert line.is_over == state.startswith("over")
    assert line.grace_left(DAY) is None or not line.settings.enforced


def test_of_two_rules_the_tighter_holds_key_by_key() -> None:
    tight = {
        "domains": frozenset({"a"}), "open_links": "nothing", "download": False, "link_days": 1, "folder_days": 1,
        "password": True, "largest": 1, "barred": frozenset({"a", "b"}), "pass_on": False, "chain": 1,
        "single_files": False,
    }  # fmt: skip
    loose = {
        "domains": frozenset({"a", "b"}), "open_links": "read", "download": True, "link_days": 2, "folder_days": 2,
        "password": False, "largest": 2, "barred": frozenset({"a"}), "pass_on": True, "chain": 2,
        "single_files": True,
    }  # fmt: skip
    for key in tight:
        one, other = SharingRule(**{key: tight[key]}), SharingRule(**{key: loose[key]})
        assert one.tighter(other) == other.tighter(one) == one
        nothing = SharingRule()
        assert one.tighter(nothing) == nothing.tighter(one) == one
    assert SharingRule(largest=UNLIMITED).tighter(SharingRule(largest=0)).largest == 0


def test_a_chain_is_too_deep_one_step_beyond_the_rule() -> None:
    first = HandOut("h0", "ada", "bo@out.example", Towards.OUTSIDE, b"/t", READ, made=ago(3), expires=ago(-3))
    chain = [first, replace(first, id="h1", passed_from="h0"), replace(first, id="h2", passed_from="h1")]
    known = facts(rule(chain=1), shared=Shared(hand_outs=tuple(chain)))
    assert [finding.evidence.split()[0] for finding in run_checks(known, ["chain-too-deep"])] == ["hand-out:h2"]


def test_kinds_are_folded_wherever_the_plan_names_them() -> None:
    office = plan(space="keep-versions: {PSD: 3, .Tif: 2, others: 1}")
    rules = office.space.rules_of("meadow")
    assert [rules.kept_versions(kind) for kind in ("psd", "tif", "doc", "")] == [3, 2, 1, 1]
    assert SpaceRules(versions={"psd": 3}).kept_versions("doc") == 0


def test_a_size_is_shown_in_the_next_unit_from_there() -> None:
    assert [show_size(size) for size in (999, 1000, 999_499, 999_500, 0)] == [
        "999 B",
        "1 kB",
        "999 kB",
        "1.00 MB",
        "0 B",
    ]


class Disk:
    """One system's space: folders with what they hold, and what its console says."""

    name, rules, principals, groups, tells = "meadow", SpaceRules(), (), (), frozenset()

    def __init__(self, held: dict[bytes, int], *found: FoundLimit) -> None:
        self.held, self.found = held, found

    def used_in(self, path: bytes) -> int | None:
        return self.held.get(path)

    def is_elsewhere(self, path: bytes) -> bool:
        return path == b"/copy"

    def held_of(self, folders: PoolFolders) -> int:
        return held_by_sums(self.used_in, folders)

    def seen_again(self, folders: PoolFolders, folders_of) -> int:
        return 0


TOLD = FoundLimit(On.POOL, "", 500, leaves_out=("/b",))


@pytest.mark.parametrize(("pools", "found", "expected"), [
    ({}, (TOLD,), {"meadow": (80, 500)}),
    ({"disk": ("meadow:/",)}, (TOLD,), {"disk": (80, 500)}),
    ({"disk": ("meadow:/",), "attic": ("meadow:/b",)}, (TOLD,), {"disk": (80, None), "attic": (20, None)}),
    ({"disk": ("meadow:/",), "attic": ("meadow:/b",)}, (replace(TOLD, name="attic"),), {"disk": (80, None), "attic": (0, 500)}),
    ({"disk": ("meadow:/a", "meadow:/b")}, (), {"disk": (50, None)}),
    # Three deep, one pool in itself, a folder named twice, and a mount within another pool: each byte once.
    ({"disk": ("meadow:/",), "attic": ("meadow:/b",), "box": ("meadow:/b/c",)}, (), {"disk": (80, None), "attic": (13, None), "box": (7, None)}),
    ({"disk": ("meadow:/", "meadow:/b/c"), "attic": ("meadow:/b",)}, (), {"disk": (87, None), "attic": (13, None)}),
    ({"disk": ("meadow:/", "meadow:/a", "meadow:/a/")}, (), {"disk": (100, None)}),
    ({"disk": ("meadow:/a", "meadow:/copy")}, (), {"disk": (30, None)}),
    ({"disk": ("meadow:/",), "attic": ("meadow:/b",)}, (replace(TOLD, name="disk", leaves_out=("/b/c",)),), {"disk": (80, 500), "attic": (20, None)}),
])  # fmt: skip
def test_a_pool_has_what_lies_in_it_and_what_the_system_says_of_it(pools, found, expected) -> None:
    office = plan()
    named = {name: Pool(name, holds) for name, holds in pools.items()}
    office = replace(office, space=replace(office.space, pools=named))
    statuses = pool_statuses(office, Disk({b"/": 100, b"/a": 30, b"/b": 20, b"/b/c": 7, b"/copy": 9}, *found))
    assert {
        one.target.name: (one.used, one.found.limit if one.found else None) for one in statuses
    } == expected  # fmt: skip


def test_who_joins_uses_what_is_usual_in_a_home() -> None:
    homes = plan().systems["meadow"]
    office = replace(plan(), systems={"meadow": replace(homes, homes=(b"/Homes",))})
    at = {"/Homes/ada": 10, "/Homes/bo": 30, "/Homes/cy": 20, "/Homes": 1000, "/Homes/ada/x": 500, "/else/bo": 700}
    statuses = [LimitStatus(LimitTarget(On.FOLDER, "meadow", path), used) for path, used in at.items()]
    statuses.append(LimitStatus(LimitTarget(On.POOL, "meadow", "meadow"), 2000, pool=Pool("meadow", ("meadow:/",))))
    then = suppose_join(Supposed(office, tuple(statuses)), "meadow", 3)
    assert then.shifts == {"meadow": 60}
    assert [one.amount for one in then.statuses if one.target.on is On.POOL] == [2060]
    # Against the limits on the folders that the homes lie in too, and against no other.
    assert {one.target.name: one.amount for one in then.statuses if one.target.on is On.FOLDER} == at | {
        "/Homes": 1060
    }
    new = [one for one in then.statuses if one.target.name.startswith("new-person")]
    assert [(one.target.name, one.amount) for one in new] == [(f"new-person-{n}", 20) for n in (1, 2, 3)]


@pytest.mark.parametrize(("mine", "theirs", "lies_in"), [
    ("D:\\data\\x", "d:\\Data", True), ("/data", "/data/", True), ("/data", "/data/x", False), ("/datax", "/data", False),
    ("", "/data", False), ("/data", "", False), ("", "", False), ("/data/x", "/data", True),
])  # fmt: skip
def test_a_share_lies_in_another_by_its_place_on_the_server(mine: str, theirs: str, lies_in: bool) -> None:
    body = posix.pack_body(0o700, 0)
    one, other = (Share("s", b"/s", body, place=place) for place in (mine, theirs))
    assert one.lies_in(other) == lies_in


def test_what_each_list_model_asks_and_has() -> None:
    asked = {name: (model.asks_enter, model.groups_may_own, model.has_defaults) for name, model in MODELS.items()}
    assert asked == {
        "posix": (True, False, True), "nt": (False, True, False), "nfs4": (True, False, False), "role": (False, False, False),
    }  # fmt: skip


def test_losses_are_alike_where_as_much_is_lost_and_kept() -> None:
    loss = Loss(1, 2, "team", READ, WRITE)
    assert loss.is_like(replace(loss, folder=3, principal=4, way="link"))
    assert not loss.is_like(replace(loss, lost=WRITE)) and not loss.is_like(replace(loss, kept=READ))


MATCHING = [
    # accounts as (system, login, e-mail), and what is proposed for each: (candidates, because)
    ([("a", "x", "ADA@x.example")], [(("ada",), "e-mail")]),
    ([("a", "Ada", "")], [(("ada",), "login")]),
    ([("a", "x", "")], []),
    ([("a", "x", "q@x.example"), ("b", "y", "Q@x.example")], [(("a:x",), "e-mail")]),
    ([("a", "x", "q@x.example"), ("b", "x", "r@x.example")], [(("a:x",), "login")]),
    ([("a", "x", ""), ("b", "y", "")], []),
    ([("a", "x", "q@x.example"), ("a", "y", "q@x.example")], []),
    ([("a", "x", "q@x.example"), ("b", "X", "q@x.example"), ("c", "z", "q@x.example")], [(("a:x",), "e-mail"), (("a:x", "b:X"), "e-mail")]),
]  # fmt: skip


@pytest.mark.parametrize(("accounts", "proposed"), MATCHING, ids=range(len(MATCHING)))
def test_an_account_may_be_whose_address_or_login_it_has(accounts, proposed) -> None:
    office, by_system = plan(), {}
    for number, (system, login, email) in enumerate(accounts, start=5001):
        by_system.setdefault(system, []).append(Account(login, str(number), "", login, email))
    found = find_principals(office, {name: FoundAccounts(each, ()) for name, each in by_system.items()})
    made = propose(office, found)
    assert [(one.candidates, one.because.split()[2].rstrip(",")) for one in made] == proposed
    assert all(one.is_clear == (one.candidates == ("ada",)) for one in made)


def of_person(name: str, used: int, limit: object, on: On = On.PERSON) -> LimitStatus:
    placed = PlacedLimit(on, f"meadow:{name}", "meadow", name, None, {"limit": limit})
    return LimitStatus(LimitTarget(on, "meadow", name), used, placed)


def test_what_a_pool_promises_is_the_most_that_its_limits_come_to() -> None:
    whole = Pool("meadow", ("meadow:/",), 1000)
    office = replace(plan(), space=replace(plan().space, pools={"meadow": whole}))
    disk = LimitStatus(LimitTarget(On.POOL, "meadow", "meadow"), 400, pool=whole)
    people = [of_person("ada", 100, 700), of_person("bo", 150, 50)]
    watched = replace(of_person("cy", 10, 9000), planned=PlacedLimit(On.PERSON, "k", "meadow", "cy", None, {"limit": 9000, "enforced": False}))  # fmt: skip
    statuses = [disk, *people, watched, of_person("vets", 20, 30, On.GROUP), of_folder(60, 300)]
    (promise,) = promises(office, statuses, DAY)
    # 700 and the 150 that are used already, with the 150 of others; 30 with 380; 300 with 340.
    assert (promise.by_people, promise.by_groups, promise.by_folders) == (1000, 410, 640)
    assert (promise.size, promise.used, promise.limits, promise.promised, promise.beyond) == (1000, 400, 4, 1000, 0)
    (promise,) = promises(office, [disk, of_person("ada", 100, 701)], DAY)
    assert promise.promised == 1001 and promise.beyond == 1


def entries_of(*each: tuple[int, int, int]) -> bytes:
    return b"".join(struct.pack("<HHI", *one) for one in each)


NOBODY_ID = 0xFFFFFFFF
SHORT = ((1, 7, NOBODY_ID), (4, 5, NOBODY_ID), (32, 0, NOBODY_ID))
LONG = ((1, 7, NOBODY_ID), (2, 7, 11), (4, 5, NOBODY_ID), (16, 7, NOBODY_ID), (32, 5, NOBODY_ID))
CHILDREN = [
    # mode of the folder above, its default list, is it a folder → mode, group, and the entries with what they grant
    (0o755, None, True, 0o755, 21, ()), (0o755, None, False, 0o644, 21, ()),
    (0o2755, None, True, 0o2755, 33, ()), (0o2755, None, False, 0o644, 33, ()), (0o1777, None, True, 0o755, 21, ()),
    (0o755, SHORT, True, 0o750, 21, ()), (0o755, SHORT, False, 0o640, 21, ()),
    (0o755, LONG, True, 0o775, 21, LONG),
    (0o2755, LONG, False, 0o664, 33, ((1, 6, NOBODY_ID), (2, 7, 11), (4, 5, NOBODY_ID), (16, 6, NOBODY_ID), (32, 4, NOBODY_ID))),
]  # fmt: skip


@pytest.mark.parametrize(
    ("above", "default", "is_folder", "mode", "group", "entries"), CHILDREN, ids=range(len(CHILDREN))
)
def test_a_new_child_has_what_its_folder_passes_on(above, default, is_folder, mode, group, entries) -> None:
    model = MODELS["posix"]
    passed = None if default is None else posix.pack_body(0, 0, entries_of(*default))
    body = model.new_child(posix.pack_body(above, 33), passed, Maker("11", "21"), is_folder=is_folder)
    assert body == posix.pack_body(mode, group, entries_of(*entries)) and model.group_of(body) == str(group)
    if passed is not None:
        pushed = model.pushed(
            passed, posix.pack_body(0o2700 if is_folder else 0o600, 33), "11", keeps_own=False, is_folder=is_folder
        )
        parsed = model.parse(pushed)
        assert parsed.mode & 0o777 == mode & 0o777 and parsed.gid == "33"


def test_files_are_kept_by_name_from_eight_mebibytes_on() -> None:
    assert (
        LARGE_BYTES == 8_388_608
        and "files of 8 MiB and more" in (Path(__file__).parent.parent / "docs" / "outputs.md").read_text()
    )


@pytest.mark.parametrize(("limit", "used", "kept_back", "block", "left"), [
    (100, 40, 0, 1, 60), (100, 40, 10, 1, 50), (100, 95, 10, 1, 0), (100, 101, 0, 1, 0), (100, 40, 3, 16, 48), (100, 36, 0, 16, 64),
    (UNLIMITED, 40, 0, 1, None), (100, None, 0, 1, None), (0, 0, 0, 1, 0),
])  # fmt: skip
def test_what_a_system_says_is_left(limit, used, kept_back: int, block: int, left) -> None:
    assert FoundLimit(On.FOLDER, "/a", limit, used=used, kept_back=kept_back, block=block).left == left


@pytest.mark.parametrize("kind", range(20))
def test_entries_count_by_their_type(kind: int) -> None:
    name = next(name for name, value in vars(AceType).items() if value == kind and not name.startswith("_"))
    sid = pack_sid("S-1-5-21-1-2-3-5001")
    body = (0x1200A9).to_bytes(4, "little") + (bytes(4) if "OBJECT" in name else b"") + sid
    parsed = MODELS["nt"].parse(
        nt.pack_body(Descriptor("", "", Acl((ace_of_body(kind, 0, body),)), None, DACL_PRESENT))
    )
    found = parsed.decide(ItemContext("S-1-5-18", True), Holder("x", "S-1-5-21-1-2-3-5001", frozenset()))
    # A refusal that may not count changes nothing for somebody who is given nothing.
    # The access check knows no compound entries (MS-DTYP 2.5.3.2): they give nothing for certain.
    speaks = name.startswith("ALLOW") and name != "ALLOW_COMPOUND"
    assert bool(found.rights & Right.READ) == (name == "ALLOW"), name
    assert found.is_unsure == (speaks and name != "ALLOW"), name
    quiet = name.startswith(("AUDIT", "ALARM", "LABEL", "RESOURCE", "SCOPED")) or name in ("ALLOW", "DENY")
    assert bool(parsed.view(is_folder=True).unsure) == (not quiet), name


def test_people_beyond_the_first_word_of_bits_are_themselves() -> None:
    accounts = tuple(Account(f"p{n}", str(6000 + n), "", f"P {n}") for n in range(150))
    known = facts(None, accounts)
    (system,) = known.systems
    owner = 1 + 129  # ada is the first
    matrix = Matrix(
        system.folders, system.everyone.matrix.classes, [posix.pack_body(0o700, 0)], ["6129"],
        system.everyone.matrix.principals, terms=SystemTerms(MODELS["posix"], True),
    )  # fmt: skip
    system = replace(system, everyone=Everyone(matrix))
    may = [number for number in range(len(system.principals)) if system.rights_at(0, [number]) & Right.READ]
    assert may == [owner] and system.rights_at(0, range(len(system.principals))) & Right.READ
    assert [number for number in range(151) if system.has_right(number, Right.LIST)[0]] == [owner]


def nfs4_body(*entries: tuple[int, int, int, str]) -> bytes:
    return nfs4.pack_body("20", [nfs4.Entry(*entry) for entry in entries])


OURS, THEIRS = "S-1-5-21-1-2-3-5001", "S-1-5-21-9-8-7-5002"
# Model, body → users, groups, either (whom it names), is_plain, is_sticky, is_ordered, is_closed, unsure, how many own.
VIEWS = [
    ("nfs4", nfs4_body((0, 0, 1, "OWNER@"), (0, 0, 1, "GROUP@"), (0, 0, 1, "EVERYONE@")), [], ["20"], [], True, False, True, False, 0, 3),
    ("nfs4", nfs4_body((0, 0x40, 1, "20"), (0, 0x80, 1, "EVERYONE@")), [], ["20"], [], True, False, True, False, 0, 1),
    ("nfs4", nfs4_body((0, 0x40, 1, "21")), [], ["21"], [], False, False, True, False, 0, 1),
    ("nfs4", nfs4_body((0, 0, 1, "1001")), ["1001"], [], [], False, False, True, False, 0, 1),
    ("nfs4", nfs4_body((9, 0, 1, "1001")), [], [], [], True, False, True, False, 1, 1),
    ("role", role.pack_body([]), [], [], [], True, False, True, False, 0, 0),
    ("role", role.OPEN, [], [], [], False, False, True, False, 0, 0),
    ("role", role.pack_body([role.Entry(Subject.USER, "u1", READ), role.Entry(Subject.GROUP, "g1", READ, inherited=True),
                             role.Entry(Subject.EITHER, "e1", READ)]), ["u1"], ["g1"], ["e1"], False, False, True, False, 0, 2),
    ("posix", posix.pack_body(0o1750, 33), [], ["33"], [], True, True, True, False, 0, 0),
    ("posix", posix.pack_body(0o750, 33, entries_of((1, 7, NOBODY_ID), (2, 5, 1001), (4, 4, NOBODY_ID), (16, 5, NOBODY_ID), (32, 0, NOBODY_ID))),
     ["1001"], ["33"], [], False, False, True, False, 0, 0),
]  # fmt: skip


@pytest.mark.parametrize("row", VIEWS, ids=range(len(VIEWS)))
def test_what_the_checks_see_of_a_list(row) -> None:
    name, body, *expected = row
    view = MODELS[name].parse(body).view(is_folder=True)
    assert [
        sorted(view.users), sorted(view.groups), sorted(view.either), view.is_plain, view.is_sticky, view.is_ordered,
        view.is_closed, view.unsure, len(view.own),
    ] == expected  # fmt: skip


def test_what_a_named_group_gets_by_mode_and_by_list() -> None:
    by_mode = MODELS["posix"].parse(posix.pack_body(0o740, 33)).view(is_folder=True)
    assert by_mode.groups["33"] == Right.LIST and by_mode.everyone == Right.NONE
    entries = entries_of((1, 7, NOBODY_ID), (4, 7, NOBODY_ID), (16, 4, NOBODY_ID), (32, 5, NOBODY_ID))
    by_list = MODELS["posix"].parse(posix.pack_body(0o745, 33, entries)).view(is_folder=True)
    assert by_list.groups["33"] == Right.LIST and Right.ENTER in by_list.everyone
    denied = MODELS["role"].parse(role.pack_body([role.Entry(Subject.GROUP, "g", READ, allows=False)]))
    assert denied.view(is_folder=True).groups == {"g": Right.NONE}


@pytest.mark.parametrize(("text", "is_one"), [
    ("S-1-5-4294967295", True), ("S-1-5-4294967296", False), ("S-1-5-32-4294967296", False), ("S-1-4294967296-1", True), ("S-1-5", True),
    ("S-1-5-32-544-", False), ("S-1-5-32-544", True), ("s-1-5-32-544", False), ("S-2-5-32", False),
])  # fmt: skip
def test_an_identifier_is_one_within_its_bounds(text: str, is_one: bool) -> None:
    assert is_sid(text) == is_one


@pytest.mark.parametrize(("text", "packed", "again"), [
    ("S-1-5-32-544", "0102000000000005" "20000000" "20020000", "S-1-5-32-544"), ("S-1-5", "0100000000000005", "S-1-5"),
    ("S-1-0x5-32", "0101000000000005" "20000000", "S-1-5-32"), ("S-1-0X1f-1", "010100000000001f" "01000000", "S-1-31-1"),
    ("S-1-4294967295-1", "01010000ffffffff" "01000000", "S-1-4294967295-1"),
    ("S-1-4294967296-1", "0101000100000000" "01000000", "S-1-0x000100000000-1"),
    ("S-1-281474976710655", "0100ffffffffffff", "S-1-0xffffffffffff"), ("S-1-281474976710656", "", ""),
    ("S-1-5-4294967295", "0101000000000005" "ffffffff", "S-1-5-4294967295"), ("S-1-5-4294967296", "", ""),
    ("S-1-5" + 15 * "-1", "010f000000000005" + 15 * "01000000", "S-1-5" + 15 * "-1"), ("S-1-5" + 16 * "-1", "", ""),
])  # fmt: skip
def test_an_identifier_is_packed_as_the_specification_has_it(text: str, packed: str, again: str) -> None:
    if packed:
        assert pack_sid(text).hex() == packed and unpack_sid(bytes.fromhex(packed)) == again
    else:
        with pytest.raises(FormatError):
            pack_sid(text)


def test_the_shortest_identifier_and_list_are_read() -> None:
    alone = bytes([1, 0, 0, 0, 0, 0, 0, 5])
    packed = pack_acl(Acl((Ace(0, 0, 0x1F01FF, OURS), Ace(1, 3, 1, THEIRS))))
    assert unpack_sid(alone) == "S-1-5" and unpack_acl(packed) == unpack_acl(b"\xff" * 4 + packed, 4)
    for cut in range(8):
        with pytest.raises(FormatError):
            unpack_acl(packed[:cut])


def test_models_say_what_they_pass_on_and_lock() -> None:
    bodies = {
        "posix": posix.pack_body(0o755, 0),
        "nt": nt.pack_body(Descriptor("", "", Acl(()))),
        "nfs4": nfs4_body(),
        "role": role.pack_body([]),
    }
    for name, body in bodies.items():
        model = MODELS[name]
        assert model.may_lock(body) is False and model.parse(body).locked(is_folder=True) is Right.NONE
        assert model.passes_on(body) is {"posix": True, "role": True, "nt": False, "nfs4": False}[name], name
    assert MODELS["posix"].may_lock(posix.pack_body(0o755, 0, flags=posix.IMMUTABLE)) is True
    inheriting = nfs4_body((0, 3, 1, "EVERYONE@"))
    assert (
        MODELS["nfs4"].passes_on(inheriting)
        and "an empty list" in MODELS["nfs4"].parse(nfs4_body()).describe(None)[0]
    )


def test_a_pool_that_two_systems_share_has_what_either_tells() -> None:
    told = FoundLimit(On.POOL, "", 100, used=60)
    target = LimitTarget(On.POOL, "barn", "disk")
    lines = [LimitStatus(target, 10), LimitStatus(target, 20, found=told)]
    for each in (lines, lines[::-1]):
        (joined,) = join_pools(each)
        assert joined.found == told and joined.used == 30


@pytest.mark.parametrize(("reply", "told"), [(Reply.WAITING, "has not accepted yet"), (Reply.DECLINED, "declined")])
def test_whoever_was_asked_to_a_team_folder_is_not_in_it(reply: Reply, told: str) -> None:
    team = TeamFolder(b"/t", "t", (Member("ada", False, READ, reply),))
    account = Account("ada", "u1", "")
    ada = Principal("ada", "Ada", Kind.STAFF, "meadow", account, Holder("ada", "u1", frozenset()), True)
    service = Service("meadow", Shared((team,)), [ada], {}, DAY)
    gate = member_gate(service, team, 0)
    assert gate.stops and told in gate.reasons[0].because


def exposer() -> Exposer:
    """A folder ``a`` with three letters and one large film, beside an empty ``b``."""
    folders = _table(
        {"name": [b"", b"a", b"b"], "parent": [-1, 0, 0], "first_child": [1, 3, 3], "children": [2, 0, 0]},
        COLUMNS["folders"],
    )
    classes = {name: [0, 0] for name in COLUMNS["classes"]} | {
        "folder": [1, 1],
        "kind": [0, 1],
        "files": [3, 1],
        "bytes": [30, 9000],
        "changed": [5, 9],
    }
    large = {name: [0] for name in COLUMNS["large"]} | {
        "folder": [1],
        "name": [b"x.mp4"],
        "bytes": [9000],
        "changed": [9],
        "kind": [1],
    }
    return Exposer(
        TreeOrder(folders), _table(classes, COLUMNS["classes"]), _table(large, COLUMNS["large"]), [b"odt", b"mp4"]
    )


@pytest.mark.parametrize(("path", "is_file", "expected"), [
    (b"/a/x.mp4", True, Exposed(1, 9000, ("mp4",), 9, 9000)), (b"/a/y.odt", True, Exposed(1, None, ("odt",), 0, 0)),
    (b"/a/y.pdf", True, None), (b"/b/y.odt", True, None), (b"/c/y.odt", True, None), (b"/c", False, None),
    (b"/a", False, Exposed(4, 9030, ("odt", "mp4"), 9, 9000)), (b"/b", False, Exposed(0, 0, (), 0, 0)), (b"/", False, Exposed(4, 9030, ("odt", "mp4"), 9, 9000)),
])  # fmt: skip
def test_what_a_target_exposes(path: bytes, is_file: bool, expected: Exposed | None) -> None:
    assert exposer().find([(path, is_file)]) == {path: expected}


def test_a_rule_for_guests_speaks_of_the_guests_that_are_named() -> None:
    guests = rule(guests="none")
    to_gus = replace(handed().hand_outs[0], receiver="gus", towards=Towards.PERSON)
    to_group = replace(to_gus, towards=Towards.GROUP)
    for one, is_told in ((to_gus, True), (to_group, False)):
        found = [each.check for each in run_checks(facts(guests, (guest(),), Shared(hand_outs=(one,))))]
        assert ("beyond-the-rules" in found) == is_told


def test_an_owner_is_known_as_an_account_a_group_or_everywhere() -> None:
    bodies = {"nt": nt.pack_body(Descriptor("", "", Acl(()))), "posix": posix.pack_body(0o700, 0)}
    folders = _table({"name": [b""], "parent": [-1], "first_child": [1]}, COLUMNS["folders"])
    none = {kind: table_of_rows([], kind) for kind in ("classes", "odd", "collisions")}
    for model, known, unknown in (
        ("nt", ("S-1-5-18", OURS, "S-1-9-1", ""), (THEIRS, "S-1-9-2")),
        ("posix", ("0", ""), ("S-1-9-1", "7")),
    ):
        account = Account("ada", OURS if model == "nt" else "0", "")
        terms = SystemTerms(MODELS[model], True)
        matrix = Matrix(folders, none["classes"], [bodies[model]], ["0"], [stranger()], terms=terms)
        groups = (Group("vets", "S-1-9-1"),)
        system = SystemFacts(
            "barn",
            Everyone(matrix),
            (account,),
            groups,
            none["odd"],
            none["collisions"],
            (),
            (),
            (),
            str,
            lambda row, who: None,
            None,
        )
        assert all(system.is_known_owner(one) for one in known) and not any(
            system.is_known_owner(one) for one in unknown
        )


@pytest.mark.parametrize(("line", "told"), [
    (of_folder(5, UNLIMITED), "no limit"), (of_folder(999), "999 B of 1 kB used"),
    (of_folder(1001, over_since=ago(13), **GRACE), "only warns; may be exceeded for 1 more day"),
    (of_folder(999, **GRACE), "only warns; may be exceeded for 14 days once exceeded"),
    (of_folder(1001, over_since=ago(14), **GRACE), "only warned, and its days are over"),
    (of_folder(1001, enforced=False), "only warns; may be exceeded"),
])  # fmt: skip
def test_a_stop_says_whether_and_for_how_long_it_may_be_passed(line: LimitStatus, told: str) -> None:
    newcomer = Newcomer("ada", Address("meadow", line.target.name.encode()), "", "")
    (stop, *_) = find_room(plan(), [line], newcomer, DAY).stops
    assert told in stop.because and ("watched" in stop.because) == ("watched" in told)
    assert stop.stops == line.is_enforced(DAY) and (stop.left is None) == (line.settings.limit is UNLIMITED)


POOLED = 'pools: {meadow: {holds: ["meadow:/"], size: 1 kB}}\nentitlements: {paid: {holders: [ada], systems: [meadow], space: 700 B}}\n'
OF_POOL = FoundLimit(On.POOL, "meadow", 1000, used=400, by="the console")
AS = "; as planned: the system reports no limit"
STOPS: list[tuple[tuple[LimitStatus, ...], str, list[tuple[str, int | None, bool, str]]]] = [
    # the limits, why they may not write there, and what they come up against, the first to stop first
    ((pool(used=300),), "", [("pool meadow", 700, True, "300 B of 1 kB used")]),
    ((pool(used=300, found=OF_POOL),), "", [("pool meadow", 600, True, "400 B of 1 kB used, as the console says")]),
    ((pool(used=300, found=replace(OF_POOL, used=None)),), "", [("pool meadow", 700, True, "300 B of 1 kB used")]),
    ((pool(used=300, found=replace(OF_POOL, by="")),), "", [("pool meadow", 600, True, "400 B of 1 kB used")]),
    ((pool(used=300, found=replace(OF_POOL, leaves_out=("/a",))),), "", []),
    ((pool(used=300, found=replace(OF_POOL, leaves_out=("/ab",))),), "", [("pool meadow", 600, True, "400 B of 1 kB used, as the console says")]),
    ((pool(used=300, found=replace(OF_POOL, items=10, items_used=9)),), "", [
        ("pool meadow", 600, True, "400 B of 1 kB used, as the console says"),
        ("files in pool meadow", None, True, "9 of 10 files and folders, as the console says: 1 more can be made")]),
    ((pool(used=300, found=replace(OF_POOL, items=10, items_used=10)),), "", [
        ("files in pool meadow", 0, True, "10 of 10 files and folders, as the console says: not one more can be made, whatever space is left"),
        ("pool meadow", 600, True, "400 B of 1 kB used, as the console says")]),
    ((of_folder(100), of_folder(990, over_since=None, enforced=False)), "", [
        ("limit on meadow:/a", 900, True, f"100 B of 1 kB used{AS}"), ("limit on meadow:/a", 10, False, f"990 B of 1 kB used{AS}; only warns; may be exceeded")]),
    ((of_folder(100),), "only to look", [("access", 0, True, "only to look"), ("limit on meadow:/a", 900, True, f"100 B of 1 kB used{AS}")]),
    ((of_person("ada", 500, 900), of_person("bo", 899, 900), of_person("vets", 899, 900, On.GROUP)), "", [
        ("limit on the files of vets", 1, True, f"899 B of 900 B used{AS}"), ("entitlement paid", 200, True, "500 B of 700 B used"),
        ("limit on ada's files", 400, True, f"500 B of 900 B used{AS}")]),
    ((of_folder(100, found=replace(found_limit(1000), used=200, kept_back=50, by="quotas")),), "", [
        ("limit on meadow:/a", 750, True, "200 B of 1 kB used, as quotas says; 50 B of it kept ready by the system")]),
    ((of_folder(100, UNLIMITED),), "", [("limit on meadow:/a", None, False, "no limit")]),
    ((LimitStatus(LimitTarget(On.FOLDER, "meadow", "/a"), 5),), "", [("limit on meadow:/a", None, False, "not reported: there may be one")]),
]  # fmt: skip


@pytest.mark.parametrize(("statuses", "refusal", "stops"), STOPS, ids=range(len(STOPS)))
def test_what_a_write_comes_up_against(statuses: tuple[LimitStatus, ...], refusal: str, stops: list) -> None:
    newcomer = Newcomer("ada", Address("meadow", b"/a/b"), "vets", refusal)
    room = find_room(plan(POOLED), statuses, newcomer, DAY)
    assert [(one.what, one.left, one.stops, one.because) for one in room.stops] == [
        (what.replace("access", room.stops[0].what) if what == "access" else what, *rest) for what, *rest in stops
    ]
    known = [left for _, left, is_stop, _ in stops if is_stop and left is not None]
    assert room.left == (max(0, min(known)) if known else None)
    doubtful = find_room(plan(POOLED), statuses, replace(newcomer, is_doubtful=True), DAY)
    assert doubtful.is_known == (not refusal)


def test_the_nearest_limit_is_named_first_and_only_those_above_count() -> None:
    places = ("/", "/a", "/a/b", "/a/b/c", "/x")
    some = [replace(of_folder(100), target=LimitTarget(On.FOLDER, "meadow", path)) for path in places]
    room = find_room(plan(), some, Newcomer("ada", Address("meadow", b"/a/b"), "", ""), DAY)
    assert [one.what for one in room.stops] == ["limit on meadow:/a/b", "limit on meadow:/a", "limit on meadow:/"]


def test_what_is_supposed_of_one_place_leaves_the_others() -> None:
    mine, other = (
        of_folder(5, found=found_limit(1000)),
        replace(of_folder(7), target=LimitTarget(On.FOLDER, "meadow", "/other")),
    )
    unseen = replace(mine, found=None, is_reported=True)
    for before in (mine, unseen):
        after = suppose_limit(Supposed(plan(), (other, before), {}), before.target.key, 4000)
        assert after.statuses[0] == other and after.statuses[1].settings.limit == 4000
        assert after.statuses[1].is_reported == (before.is_reported and before.found is not None)
    with pytest.raises(UnknownNameError):
        suppose_limit(Supposed(plan(), (other,), {}), mine.target.key, 1)
