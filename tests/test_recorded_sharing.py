"""Services with all that they share, by lot, and what every check, gate and date says of them: as it was last looked at."""

from __future__ import annotations

import json
import random
from dataclasses import replace
from datetime import date
from typing import Any

import pytest

from neatledger.core.checks.table import run_checks
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.plan import Plan
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule, tightest
from neatledger.core.sharing import gates
from neatledger.core.sharing.devices import judge_device
from neatledger.core.sharing.judging import Exposed, pass_on_depth
from neatledger.core.sharing.lapses import lapses_of_plan, lapses_of_principals, lapses_of_reviews, lapses_of_service
from neatledger.core.sharing.takeback import take_back
from neatledger.core.survey.accounts import Account, AccountState, Admission
from neatledger.core.survey.shared import Audience, Device, HandOut, Link, Member, Reply, Shared, TeamFolder, Towards
from neatledger.core.tree.address import Address
from neatledger.errors import NeatError
from recording import properties, worded
from test_boundaries import DAY, ago, facts, plan

LEVELS = [with_view(LEVEL_RIGHTS[level]) for level in (Level.READ, Level.WRITE, Level.MANAGE)] + [
    Right.ADD | Right.ENTER,
    Right.VIEW,
]
LOGINS = ("ada", "bo", "cy", "gus", "eve", "zed")
PATHS = (b"/t", b"/t/x", b"/Homes", b"/Homes/bo", b"/u")


def some_day(rng: random.Random, far: int = 400) -> date | None:
    """A day near one of those from which something is told, or none."""
    off = rng.choice((0, 1, 7, 8, 14, 15, 30, 31, 35, 36, 90, 91, 180, 181, 365, 366, far))
    return None if rng.random() < 0.3 else ago(rng.choice((-1, 1)) * off + rng.choice((0, 0, 1, -1)))


def past(rng: random.Random) -> date | None:
    day = some_day(rng)
    return day if day is None or day <= DAY else ago((day - DAY).days)


def said_plan(rng: random.Random) -> Plan:
    """A plan whose settings, rules, people and posts are drawn."""
    people: dict[str, Any] = {}
    for name in ("bo", "cy", "gus"):
        one: dict[str, Any] = {
            "name": name.title(),
            "email": rng.choice((f"{name}@x.example", f"{name}@out.example", "bo@x.example")),
        }
        one["accounts"] = {"meadow": name}
        if rng.random() < 0.4:
            one["end"] = (some_day(rng) or DAY).isoformat()
        elif rng.random() < 0.3:
            one["start"] = (past(rng) or DAY).isoformat()
        if rng.random() < 0.3:
            one["successor"] = "ada"
        if rng.random() < 0.5:
            one["posts"] = [
                {"post": rng.choice(("vet", "nurse")), "until": (some_day(rng) or DAY).isoformat()}
                if rng.random() < 0.5
                else "vet"
            ]
            if "start" in one or "end" in one:
                one["posts"] = ["vet"]
        if rng.random() < 0.4:
            one["beyond"] = [
                {"group": "vets", "because": "so"}
                | ({"until": (some_day(rng) or DAY).isoformat()} if rng.random() < 0.6 else {})
            ]
        people[name] = one
    if rng.random() < 0.5:
        people["gus"] = {"name": "Gus", "kind": "guest", "email": "gus@out.example", "accounts": {"meadow": "gus"}}
    settings = {
        key: rng.choice(values)
        for key, values in {
            "guest-idle-days": (7, 90), "guest-remove-days": (100, 180), "invitation-days": (8, 30), "link-unused-days": (36, 180), "password-days": (91, 365),
            "unused-entitlement-days": (31, 90), "review-days": (30, 180), "hand-over-days": (0, 30), "keep-days": (31, 365), "administrator-link-days": (7, 30),
            "account-idle-days": (31, 180), "most-administrators": (0, 1), "ends-soon-days": (7, 14),
        }.items()
        if rng.random() < 0.5 and key != "ends-soon-days"
    }  # fmt: skip
    sharing: dict[str, Any] = {"sensitive": ["meadow:/t/x"]} if rng.random() < 0.5 else {}
    for place in ("office", "systems", "people", "folders"):
        rule = {
            key: rng.choice(values)
            for key, values in {
                "guests": ("none", "listed", "invited"), "open-links": ("nothing", "read", "write"), "download": (True, False), "link-days": (7, 30, 90),
                "password": (True, False), "largest": ("1 kB", "no limit", "0 B"), "barred-kinds": (["exe"], []), "pass-on": (True, False), "domains": (["out.example"], []),
                "folder-days": (7, 30), "chain": (0, 1, 2), "single-files": (True, False),
            }.items()
            if rng.random() < 0.25
        }  # fmt: skip
        if rule and rng.random() < 0.8:
            where = {
                "systems": "meadow",
                "people": rng.choice(("ada", "bo")),
                "folders": rng.choice(("meadow:/t", "meadow:/t/x")),
            }
            sharing[place] = rule if place == "office" else {where[place]: rule}
    groups = {"vets": {"members": rng.sample(("ada", "bo", "cy"), 2)}}
    posts = {"vet": {"groups": ["vets"], "devices": "none"}, "nurse": {"devices": "managed", "tell": ["bo"]}}
    folders = {
        "meadow:/t": {
            "grants": {"vets": rng.choice(("read", "write")), "cy": "none"},
            "owner": rng.choice(("ada", "bo")),
            "decides": rng.choice(("ada", "cy")),
        }
    }
    lines = [f"  {name}: {json.dumps(one)}" for name, one in people.items()]
    lines += [f"settings: {json.dumps(settings)}", f"sharing: {json.dumps(sharing)}", f"groups: {json.dumps(groups)}"]
    lines += [f"posts: {json.dumps(posts)}", f"folders: {json.dumps(folders)}"]
    return plan("\n".join(lines) + "\n")


def accounts(rng: random.Random) -> tuple[Account, ...]:
    found = []
    for number, login in enumerate(LOGINS[1:]):
        admission = Admission(
            roles=rng.choice((None, frozenset({"user"}), frozenset({"administrator"}))), entitlements=rng.choice(((), ("gold",))), is_guest=login == "gus" or rng.random() < 0.2,
            inviter=rng.choice(("", "ada", "zed")), invited=past(rng), accepted=past(rng), second_factor=rng.choice((None, True, False)), password_set=past(rng),
            is_first_password=rng.random() < 0.2, disable_on=some_day(rng), remove_on=some_day(rng), ends=some_day(rng),
        )  # fmt: skip
        state = rng.choice(
            (AccountState.OPEN, AccountState.OPEN, AccountState.DISABLED, AccountState.UNKNOWN, AccountState.LOCKED)
        )
        email = rng.choice((f"{login}@x.example", f"{login}@out.example", "", "bo@x.example"))
        found.append(
            Account(
                login,
                str(5000 + number),
                "",
                login.title(),
                email,
                "",
                "",
                state,
                "",
                rng.random() < 0.8,
                past(rng),
                rng.random() < 0.8,
                admission,
            )
        )
    return tuple(found)


def shared(rng: random.Random) -> Shared:
    links = tuple(
        Link(
            f"k{n}", rng.choice(LOGINS), rng.choice(PATHS), rng.choice(LEVELS), rng.choice(list(Audience)), rng.choice(((), ("gus",), ("bo", "x@out.example"))), rng.random() < 0.3,
            past(rng), some_day(rng), some_day(rng), rng.random() < 0.5, rng.random() < 0.8, rng.random() < 0.8, rng.random() < 0.7, rng.randrange(3),
            rng.choice((None, None, 0, 1)), past(rng), rng.choice(("", f"f{n}")), rng.random() < 0.1,
        )
        for n in range(4)
    )  # fmt: skip
    hand_outs = tuple(
        HandOut(
            f"h{n}", rng.choice((*LOGINS, "")), rng.choice((*LOGINS, "vets", "y@out.example")), rng.choice(list(Towards)), rng.choice(PATHS), rng.choice(LEVELS), rng.random() < 0.3,
            past(rng), some_day(rng), rng.choice((Reply.ACCEPTED, Reply.ACCEPTED, *Reply)), rng.random() < 0.8, rng.choice(("", "", f"h{rng.randrange(4)}")), rng.random() < 0.1,
        )
        for n in range(4)
    )  # fmt: skip
    teams = tuple(
        TeamFolder(
            path, path.decode().strip("/"), tuple(Member(holder, holder == "vets", rng.choice(LEVELS), rng.choice((Reply.ACCEPTED, Reply.ACCEPTED, *Reply)), past(rng)) for holder in rng.sample(("ada", "bo", "gus", "vets", "nobody"), rng.randrange(4))),
            rng.random() < 0.8, rng.choice((None, None, Address("meadow", b"/Homes"))), rng.random() < 0.8, some_day(rng),
        )
        for path in (b"/t", b"/u")
    )  # fmt: skip
    devices = tuple(
        Device(f"d{n}", rng.choice(LOGINS), "book", "", rng.choice((None, True, False)), rng.choice(("linked", "lost", "wiped")), past(rng), rng.choice(((), (b"/t",), (b"/t/x",))), rng.choice((None, 0, 10)))
        for n in range(3)
    )  # fmt: skip
    return Shared(
        teams,
        hand_outs,
        links,
        devices,
        (),
        rng.random() < 0.9,
        rng.choice(("", "", "gold")),
        rng.choice((None, 3)),
        rng.choice((None, 0, 30, UNLIMITED)),
    )


def drawn(seed: int):
    rng = random.Random(seed)
    exposed = rng.choice(
        (None, Exposed(3, 1001, ("odt",), 5, 900), Exposed(1, None, ("exe",), 0), Exposed(2, 1000, (), 9, 0))
    )
    return facts(said_plan(rng), accounts(rng), shared(rng), exposed=exposed, homes=(b"/Homes",)), rng


@pytest.mark.parametrize("seed", range(30))
def test_what_all_checks_say_of_a_service(seed: int, recorded) -> None:
    office, _ = drawn(seed)
    recorded([worded(one) for one in run_checks(office)])


@pytest.mark.parametrize("seed", range(10))
def test_what_gates_and_dates_say_of_a_service(seed: int, recorded) -> None:
    office, rng = drawn(seed)
    service, judged = office.services[0].service, office.services[0].judged
    said = office.plan
    told: dict[str, object] = {"runs": gates.running_gates(service)}
    for offer, breaches in judged:
        told[offer.name] = [
            properties(offer),
            [f"{one.check} {one.message}" for one in breaches],
            offer.why_dead(DAY),
        ]
    by_id = {one.id: one for one in service.shared.hand_outs}
    told["depth"] = [pass_on_depth(one, by_id) for one in service.shared.hand_outs]
    told["given"] = [gates.given_gates(service, one) for one in service.shared.hand_outs]
    told["links"] = [
        gates.link_gates(service, one, path, number)
        for one in service.shared.links
        for path in (b"/t/x",)
        for number in range(2)
    ]
    told["teams"] = [
        [
            gates.published_gate(one, DAY),
            [
                gates.member_gate(service, one, number, perhaps=perhaps)
                for number in range(4)
                for perhaps in (False, True)
            ],
        ]
        for one in service.shared.teams
    ]
    told["numbers"] = [
        service.numbers, service.in_group, [service.receivers(one) for one in service.shared.hand_outs], [service.perhaps_receivers(one) for one in service.shared.hand_outs],
        [service.link_principals(one) for one in service.shared.links], [service.member_numbers(one) for team in service.shared.teams for one in team.members],
    ]  # fmt: skip
    resolved = service.resolve(service.shared.hand_outs, b"/t/x")
    told["resolved"] = resolved
    told["rules"] = [
        [service.rule_at(path, login), [one.describe() for one in service.rules_at(path, login)]]
        for path in (b"/", b"/t", b"/t/x")
        for login in ("ada", "bo", "gus")
    ]
    told["link rights"] = [
        [int(service.link_rights(one, path, number)) for number in range(3)]
        for one in service.shared.links
        for path in (b"/t", b"/Homes/bo")
    ]
    told["devices"] = [judge_device(one, service, said, DAY) for one in service.shared.devices]
    told["lapses"] = [
        f"{one.day} {one.what} {one.place} {one.who}: {one.then}"
        for some in (
            lapses_of_plan(said), lapses_of_principals("meadow", service.principals, said), lapses_of_service(service, [offer for offer, _ in judged]),
            lapses_of_reviews(said, {Address("meadow", b"/t"): rng.choice((ago(30), ago(200)))}),
        )
        for one in some
    ]  # fmt: skip
    taken = []
    for what in (
        "link:k1",
        "link:f2",
        "hand-out:h0",
        "member:/t=bo",
        "member:/u=vets",
        "guest:gus",
        "guest:bo",
        "guest:y@out.example",
        "link:none",
        "x:y",
        "member:/t=nobody",
    ):
        try:
            after, words, top = take_back(service, what)
            taken.append(
                [
                    what,
                    words,
                    top,
                    [
                        len(after.shared.links),
                        len(after.shared.hand_outs),
                        [len(one.members) for one in after.shared.teams],
                        len(after.principals),
                    ],
                ]
            )
        except NeatError as error:
            taken.append([what, str(error)])
    told["taken"] = taken
    recorded(told)


def _rule(rng: random.Random) -> SharingRule:
    return SharingRule(
        guests=rng.choice((None, *Guests)), domains=rng.choice((None, frozenset(), frozenset({"a.example"}), frozenset({"a.example", "b.example"}))),
        open_links=rng.choice((None, "nothing", "read", "write")), download=rng.choice((None, True, False)), link_days=rng.choice((None, 0, 7, 30)), folder_days=rng.choice((None, 5, 9)),
        password=rng.choice((None, True, False)), largest=rng.choice((None, 0, 5, UNLIMITED)), barred=rng.choice((frozenset(), frozenset({"exe"}))), pass_on=rng.choice((None, True, False)),
        chain=rng.choice((None, 0, 2)), single_files=rng.choice((None, True, False)),
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(12))
def test_of_several_rules_what_holds(seed: int, recorded) -> None:
    rng = random.Random(seed)
    one, other = _rule(rng), _rule(rng)
    placed = [
        PlacedRule(on, rng.choice(("", "meadow", "bo", "/t")), _rule(rng), rng.choice(("", "meadow")))
        for on in RuleOn
    ]
    recorded({
        "tighter": one.tighter(other), "tightest": tightest(placed), "facts": [each.to_facts() for each in (one, other, *placed)], "open": int(one.open_rights),
        "guests": [one.lets_guest(is_listed, email) for is_listed in (True, False) for email in ("x@a.example", "x@B.example", "", "x")],
        "covers": [[str(each.describe()), each.covers("meadow", ("bo",), path)] for each in placed for path in (b"/", b"/t", b"/t/x", b"/tt")],
    })  # fmt: skip
    assert all(SharingRule.of_facts(each.to_facts()) == each for each in (one, other)) and replace(one) == one
