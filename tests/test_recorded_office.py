"""People, groups, reviews, protection, records and what is drafted, by lot: as it was when it was last looked at."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import pytest

from neatledger.core.checks.causes import find_causes
from neatledger.core.checks.finding import ANYONE, Finding
from neatledger.core.checks.table import CHECKS
from neatledger.core.drafting.grants import GrantDrafter, level_said
from neatledger.core.drafting.groups import FoundGroup, draft_groups
from neatledger.core.drafting.people import draft_people, login_forms
from neatledger.core.drafting.protection import FolderUse, split
from neatledger.core.drafting.sharing import draft_rules
from neatledger.core.grouping.cover import fewest_groups
from neatledger.core.grouping.tidy import find_oddities
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.homes import HomeFolder, accounts_without_home, match_homes
from neatledger.core.people.matching import propose
from neatledger.core.people.membership import holders_of, outer_groups
from neatledger.core.people.names import EntryNames
from neatledger.core.people.principals import FoundAccounts, find_principals, is_held_by, principals_by_person
from neatledger.core.plan.protection import (
    BackupRule,
    ProtectionPlan,
    SnapshotRule,
    SystemProtection,
    Wanted,
    parse_duration,
    show_duration,
)
from neatledger.core.plan.space import SpaceRules
from neatledger.core.posts.accounts import new_account, next_number
from neatledger.core.posts.forms import choose_login, faults_of_form, fill_form, guess_form, plain_letters
from neatledger.core.protection.found import FoundProtection, FoundSnapshot, Run
from neatledger.core.protection.standing import standing_of, with_restorers
from neatledger.core.protection.supposing import Supposed, as_it_is_said, supposed_rules
from neatledger.core.protection.undoing import Undoing
from neatledger.core.reviews.outcome import outcome_of
from neatledger.core.reviews.pack import Answer, AnsweredRow, Choice, Decision, Pack, PackRow, faults_of
from neatledger.core.survey.accounts import Account, AccountState, Admission, Group
from neatledger.core.trail.coverage import Coverage, Gap, common_coverage, silences
from neatledger.core.trail.folding import fold
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Record, severity_of
from neatledger.core.tree.address import Address
from neatledger.errors import NeatError
from recording import properties
from test_boundaries import DAY, ago
from test_recorded_sharing import said_plan, shared

NOW, HOUR = datetime(2026, 6, 15, 12, tzinfo=UTC), timedelta(hours=1)
NAMES = ("Ada Lane", "Bo Lane", "Ada M. Lane", "Cy Örn", "Örn Cy", "Dee", "", "Mary-Jane Fox", "Jörg Straße")
FOLDERS = [Address("meadow", path) for path in (b"/", b"/t", b"/t/x", b"/u")]


def _accounts(rng: random.Random, system: str) -> tuple[Account, ...]:
    found = []
    for number in range(rng.randrange(3, 9)):
        name = rng.choice(NAMES)
        forms = sorted(login_forms(name)) or ["front", "scan"]
        login = f"{rng.choice(forms)}{rng.choice(('', '', number))}" if rng.random() < 0.8 else f"u{number}"
        if login in {one.login for one in found}:
            continue
        email = rng.choice(
            (f"{rng.choice(forms)}@x.example", f"{login}@x.example", "", "desk@x.example", f"{login}@out.example")
        )
        shown = rng.choice((name, name, "", login))
        ident = rng.choice((str(1000 + number), str(999 - number), f"0000-1111-2222-3333-{rng.randrange(6)}"))
        state = rng.choice((AccountState.OPEN, AccountState.OPEN, AccountState.DISABLED))
        found.append(
            Account(
                login,
                ident,
                rng.choice(("1000", "2000", "")),
                shown,
                email,
                f"/home/{login}",
                "/bin/sh",
                state,
                admission=Admission(is_guest=rng.random() < 0.1),
            )
        )
    return tuple(found)


def _groups(rng: random.Random, accounts: tuple[Account, ...]) -> tuple[Group, ...]:
    logins = [one.login for one in accounts]
    found = []
    for number, name in enumerate(("vets", "desk", f"{logins[0]}", "barn vets")):
        nested = tuple(rng.sample(("2000", "2001", "2002", "vets"), rng.choice((0, 0, 1))))
        untold = rng.choice(((), (), ("*",), ("ann",)))
        found.append(
            Group(
                name,
                str(2000 + number),
                tuple(rng.sample(logins, min(len(logins), rng.randrange(3)))),
                nested,
                untold,
            )
        )
    return tuple(found)


@pytest.mark.parametrize("seed", range(25))
def test_whose_accounts_are(seed: int, recorded) -> None:
    rng = random.Random(seed)
    plan = said_plan(rng)
    found = {system: _accounts(rng, system) for system in ("meadow", "barn", "loft")}
    groups = {system: _groups(rng, some) for system, some in found.items()}
    privileges = {"2000": ("backup",), "1001": ("everything",)}
    held = find_principals(
        plan,
        {name: FoundAccounts(some, groups[name], frozenset({"S-1-1-0"}), privileges) for name, some in found.items()},
    )
    every = [one for some in held.values() for one in some]
    people, doubts = draft_people(every, ["ada", "lane"])
    homes = [
        HomeFolder(Address("barn", f"/Homes/{name}".encode()), rng.choice(("1000", "7")))
        for name in (found["barn"][0].login, "1001", found["barn"][-1].login.upper(), "x")
    ]
    matches = match_homes(homes, found["barn"])
    names = EntryNames(found["barn"], groups["barn"], MODELS["posix"])
    idents = ("1000", "1001", "2000", "2001", "S-1-1-0", "7", "")
    recorded({
        "held": [f"{one.system} {one.account.login}: {one.person} {one.name} {one.kind.value} {one.is_planned} {one.is_open} {one.is_live} {one.may_come_in}" for one in every],
        "holders": [[one.login, one.user, sorted(one.groups), sorted(one.privileges), sorted(one.maybe), sorted(one.perhaps)] for one in holders_of(found["barn"], groups["barn"], frozenset({"e"}), privileges)],
        "people": [[one.id, one.name, one.email, one.kind, [f"{each.system}:{each.account.login}" for each in one.principals], one.because] for one in people],
        "doubts": [[one.one.account.login, one.other.account.login, one.because] for one in doubts],
        "proposed": [[f"{one.system}:{one.account.login}", one.candidates, one.because, one.is_clear] for one in propose(plan, held)],
        "homes": [[str(one.address), [each.login for each in one.accounts], one.because] for one in matches],
        "without": [one.login for one in accounts_without_home(matches, found["barn"])],
        "outer": {group.ident: sorted(outer_groups(groups["barn"], group.ident)) for group in groups["barn"]},
        "names": [[names.user(one), names.group(one), names.holder(one), names.owner(one), names.numbered_group(one)] for one in idents],
        "by person": {person: len(some) for person, some in principals_by_person(every).items()},
        "is": [[holder, [one.account.login for one in every if is_held_by(plan, holder, one)]] for holder in ("everyone", "staff", "guests", "vets", "ada", "bo")],
    })  # fmt: skip


@pytest.mark.parametrize("seed", range(15))
def test_what_a_plan_says_of_people(seed: int, recorded) -> None:
    plan = said_plan(random.Random(seed))
    told: dict[str, object] = {
        "members": {name: sorted(some) for name, some in plan.members.items()},
        "groups": {name: sorted(some) for name, some in plan.groups_of.items()},
    }
    for person in ("ada", "bo", "cy", "gus", "zed"):
        told[person] = [
            plan.is_here(person), [one.post for one in plan.posts_of(person)] if person in plan.people else "", plan.why_given(person, "vets") if person in plan.people else "",
            [[str(folder), int(plan.rights_at(folder, person)[0])] for folder in FOLDERS],
            [plan.is_holder(holder, person) for holder in ("everyone", "staff", "guests", "vets", "ada", person)] if person in plan.people else "",
        ]  # fmt: skip
    told["grants"] = [
        [[one.address, holder, level] for one, holder, level in plan.grants_at(folder)] for folder in FOLDERS
    ]
    told["deciders"] = [plan.decider_of(folder) for folder in FOLDERS]
    told["guarded"] = [str(one) for one in plan.guarded]
    people = list(plan.people.values())
    told["here"] = [[one.id, [one.is_here(ago(days)) for days in (400, 31, 1, 0, -1, -31)]] for one in people]
    recorded(told)


@pytest.mark.parametrize("seed", range(25))
def test_what_groups_and_grants_are_drafted(seed: int, recorded) -> None:
    rng = random.Random(seed)
    people = ["ada", "bo", "cy", "dee", "eve"]
    groups = {name: frozenset(rng.sample(people, rng.randrange(1, 5))) for name in ("vets", "desk", "all", "one")}
    levels = [Level.NONE, Level.READ, Level.WRITE, Level.MANAGE, Level.LIST, Level.ADD_ONLY]
    wanted = [rng.choice(levels[: rng.choice((2, 3, 6))]) for _ in people]
    has = (
        None
        if rng.random() < 0.5
        else [rng.choice((one, Level.WRITE if one is Level.READ else one)) for one in wanted]
    )
    drafted = [GrantDrafter(people, groups).draft(wanted, hints, has) for hints in ((), ("desk", "one"))]
    found = [
        FoundGroup(
            rng.choice(("barn", "loft")),
            str(n),
            rng.choice(("vets", "Vets", "barn vets", "loft-desk", "desk", "desk barn", "staff", "loft")),
            rng.choice((groups["vets"], groups["desk"])),
        )
        for n in range(6)
    ]
    made = draft_groups(found, ("barn", "loft"), rng.choice(((), ("vets", "ada"))))
    holders = {f"{right} {folder}": rng.randrange(32) for right in ("read", "write") for folder in "abc"}
    may_gain = rng.choice((0, 0, 1, 2))
    cover = fewest_groups(people, holders, may_gain, [groups["vets"], groups["all"]])
    recorded({
        "grants": [{holder: level.value for holder, level in one.items()} for one in drafted], "groups": [[one.name, one.people, one.names, [each.ident for each in one.found]] for one in made],
        # Of several that are as few, another solver may take another one.
        "cover": [len(cover.groups), cover.at_least, cover.is_fewest, len(cover.gains) <= may_gain],
        "odd": find_oddities(groups | {"twin": groups["vets"]}, rng.sample(sorted(groups), 2)),
        "said": [level_said(Right(value)) for value in range(0, 256, 5)],
    })  # fmt: skip


@pytest.mark.parametrize("seed", range(15))
def test_what_rules_are_drafted_of_what_is_shared(seed: int, recorded) -> None:
    rng = random.Random(seed)
    some = [shared(rng) for _ in range(rng.choice((1, 3, 6)))]
    links = tuple(link for each in some for link in each.links)
    whole = shared(rng)
    object.__setattr__(
        whole, "links", links if rng.random() < 0.5 else tuple(one for one in links if one.password or one.expires)
    )
    found = draft_rules("meadow", whole, DAY, lambda who: {"gus": True, "bo": False}.get(who.partition("@")[0]))
    recorded(
        [
            found.whole,
            [one.describe() for one in found.others],
            [f"{one.place}: {one.text}" for one in found.questions],
        ]
    )


def test_logins_are_made_as_they_were(recorded) -> None:
    forms = (
        "{first}.{last}",
        "{first initial}{last}",
        "{last}",
        "{login}x",
        "{middle}",
        "a}{",
        "{last}{first initial}",
    )
    taken = {
        "ada.lane": "ada",
        "alane": "bo",
        "adlane": "cy",
        "lane": "",
        "orn2": "x",
        "ada.lne": "y",
        "ada.lanes": "z",
        "aad.lane": "w",
        "ab": "v",
    }
    numbers = [["999", "1000"], ["1000", "59999"], ["60000", "x", ""], [], ["1500", "1200"]]
    recorded({
        "faults": [faults_of_form(form, more=("login",)) for form in forms], "plain": [plain_letters(name) for name in NAMES],
        "filled": [[fill_form(form, name, "ada", initials=initials) for initials in (1, 2)] for form in forms[:4] for name in NAMES],
        "chosen": [[choose_login(form, name, taken), (made := choose_login(form, name, taken)) and made.is_first] for form in forms[:3] for name in NAMES],
        "guessed": [guess_form(login, name) for name in NAMES[:5] for login in ("alane", "ada.lane", "lane", "lane.ada", "Lane", "adal", "c-orn", "xx", "a.lane")],
        "numbers": [next_number(some) for some in numbers], "forms": [sorted(login_forms(name)) for name in NAMES],
    })  # fmt: skip


@pytest.mark.parametrize("seed", range(8))
def test_accounts_are_made_like_others(seed: int, recorded) -> None:
    rng = random.Random(seed)
    like = _accounts(rng, "barn")
    groups = [Group(one.login, one.primary) for one in like] + [Group("staff", "2000")]
    made = new_account("new", "New One", "n@x.example", like, groups, ["1003", "1001"])
    recorded(made)


def _moment(rng: random.Random) -> datetime:
    return NOW - HOUR * rng.choice((0, 1, 12, 23, 24, 25, 48, 71, 72, 73, 24 * 30, 24 * 31, 24 * 89, 24 * 91))


def _protected(rng: random.Random) -> tuple[SystemProtection, FoundProtection]:
    length = (None, HOUR, 24 * HOUR, 7 * 24 * HOUR, 30 * 24 * HOUR)
    snapshots = tuple(
        SnapshotRule(of, b"/.snap", "", rng.choice(length), rng.choice(length), rng.choice((None, HOUR)))
        for of in ((b"/a", b"/") if rng.random() < 0.5 else (b"/a/b",))
    )
    backups = tuple(
        BackupRule(
            name, rng.choice(((b"/",), (b"/a",))), rng.choice(((), (b"/a/b",))), rng.choice(("", "one", "two")), rng.choice(("", "home", "bank")), rng.choice((None, Address("barn", b"/copies"))),
            rng.choice(length), rng.choice(length), rng.choice(("", "runs.csv")), "", rng.choice((None, ago(10), ago(400))), rng.choice((None, HOUR, 48 * HOUR)), rng.choice(((), ("ada",))),
        )
        for name in ("nightly", "weekly")
    )  # fmt: skip
    found = FoundProtection(
        [FoundSnapshot(rule.of, _moment(rng), b"/.snap", rng.choice((None, True, False))) for rule in snapshots for _ in range(rng.randrange(4))],
        [Run(name, _moment(rng), rng.choice((None, 0, 10)), rng.choice((None, 3)), rng.choice((None, True, True, False))) for name in ("nightly", "weekly") for _ in range(rng.randrange(4))],
        rng.choice(({}, {"nightly": "no such file"}, {snapshots[0].name: "permission denied"})), {b"/a": rng.random() < 0.5},
    )  # fmt: skip
    return SystemProtection("one", "home", snapshots, backups, (), rng.choice(((), (b"/a",)))), found


@pytest.mark.parametrize("seed", range(25))
def test_how_folders_are_protected(seed: int, recorded) -> None:
    rng = random.Random(seed)
    system, found = _protected(rng)
    wanted = Wanted(
        rng.choice((None, HOUR, 24 * HOUR, 72 * HOUR)),
        rng.choice((None, HOUR, 4 * HOUR)),
        rng.choice((None, 24 * 30 * HOUR)),
        rng.choice((None, 1, 2)),
        rng.choice((None, True)),
        rng.choice((None, ("ada",), ())),
    )
    plan = ProtectionPlan(
        {Address("barn", b"/"): wanted, Address("barn", b"/a"): Wanted(loss=HOUR)}, {"barn": system}
    )
    supposed = Supposed({"nightly": [b"/a/b"]}, {"weekly": HOUR}, {"nightly": 24 * HOUR})
    told = []
    for path in (b"/", b"/a", b"/a/b", b"/c"):
        for rules, what in ((system, found), (supposed_rules(system, supposed), as_it_is_said(system, NOW))):
            one = standing_of(path, wanted.over(plan.wanted_at(Address("barn", path))), rules, what, NOW)
            one = with_restorers(
                one, {"ada"}, rng.choice(({"ada"}, {"ada", "bo"}, set())), rng.choice(((), ("backup nightly",)))
            )
            said = properties(one)
            points = said.pop("points", [])
            told.append([said, len(points), points[:1], points[-1:]])
    undone = [
        properties(Undoing.of(SpaceRules(versions=versions, bin_days=days), seen, told_days, rng.choice((None, 0, 5)), rng.choice((None, 0, 5))))
        for versions in (None, {"": 0}, {"": 8, "dcm": 32}) for days in (None, 0, 30) for seen in (None, 0, 8) for told_days in (None, 0, 29)
    ]  # fmt: skip
    recorded(
        [
            told,
            undone if seed == 0 else [],
            FoundProtection.of_facts(found.to_facts()) == found,
            sorted(supposed.names),
        ]
    )


@pytest.mark.parametrize("seed", range(20))
def test_what_is_split_how(seed: int, recorded) -> None:
    rng = random.Random(seed)

    def use(path: bytes, parts: tuple[FolderUse, ...] = ()) -> FolderUse:
        most = rng.choice((0, 1, 5, 50, 500, 5000))
        size = rng.choice((0, 10**6, 10**9, 10**11))
        return FolderUse(
            Address("barn", path), rng.choice((7, 30, 90)), size, rng.choice((0, most)), most, rng.choice((0, size // 10)), rng.choice((None, 0, most, 10 * most)), rng.choice((None, 1, 4)),
            rng.choice((None, 0.0, 10.0**6)), rng.choice((None, ago(1), ago(300))), parts,
        )  # fmt: skip

    uses = [
        (
            use(path, tuple(use(path + b"/" + name) for name in (b"x", b"y"))),
            Wanted(loss=rng.choice((None, None, HOUR, 24 * HOUR)), reach=rng.choice((None, 24 * 90 * HOUR))),
        )
        for path in (b"/a", b"/b", b"/c")
    ]
    found = split(uses, _protected(rng)[0])
    recorded(
        [
            [properties(one) for one in found],
            [round(one.a_day, 6) for one, _ in uses],
            [one.without(one.parts[0]) for one, _ in uses[:1]],
        ]
    )


def test_lengths_are_read_and_shown(recorded) -> None:
    lengths = [
        timedelta(minutes=number)
        for number in (0, 1, 15, 59, 60, 61, 90, 1439, 1440, 1441, 2880, 10080, 10081, 43200, 525600)
    ]
    texts = (
        "1 day",
        "2 days",
        "15 minutes",
        "4 hours",
        "1 week",
        "0 days",
        "x",
        "1",
        "1 month",
        "1.5 hours",
        "-1 day",
        "1 hours",
    )
    read = []
    for text in texts:
        try:
            read.append(str(parse_duration(text)))
        except (NeatError, ValueError) as error:
            read.append(str(error))
    recorded([[show_duration(one) for one in lengths], read])


@pytest.mark.parametrize("seed", range(20))
def test_what_reviews_come_to(seed: int, recorded) -> None:
    rng = random.Random(seed)
    plan = said_plan(rng)
    levels = list(Level)
    rows = [
        PackRow(
            f"t{n}",
            rng.choice(FOLDERS[1:]),
            rng.choice(("ada", "bo", "cy", "gus", "zed")),
            "N",
            rng.choice(levels),
            "group vets",
            "2026-01-01",
            "",
            rng.choice(levels),
        )
        for n in range(6)
    ]
    decisions = [
        Decision(row, rng.choice(list(Choice)), rng.choice((None, Level.READ, Level.WRITE)), "ada", DAY)
        for row in rows
    ]
    outcome = outcome_of(plan, decisions)
    pack = Pack("p", "ada", 3, DAY, tuple(FOLDERS), tuple(rows))
    shown = {row.token: {"Person": row.person, "Level": row.level.value} for row in rows}
    answered = [
        AnsweredRow(
            rng.choice((row.token, row.token, row.token, "t0", "other", "unknown")), {"Person": rng.choice((row.person, row.person, "eve")), "Level": row.level.value},
            rng.choice(("", "keep", "remove", "change", "perhaps")), rng.choice(("", "", "read", "all")), "", f"row {n}",
        )
        for n, row in enumerate(rows[: rng.randrange(3, 7)])
    ]  # fmt: skip
    answer = Answer("p", rng.choice(("Ada", "")), rng.choice(("2026-06-15", "15.6.2026", "")), answered)
    recorded({
        "edits": outcome.edits, "by hand": [[one.row.token, why] for one, why in outcome.by_hand], "left": [one.left for one in decisions],
        "faults": faults_of(answer, pack, shown, ["other"]), "same": [PackRow.of_facts(row.to_facts()) == row for row in rows],
    })  # fmt: skip


@pytest.mark.parametrize("seed", range(20))
def test_what_records_come_to(seed: int, recorded) -> None:
    rng = random.Random(seed)
    moments = sorted(NOW - timedelta(minutes=rng.choice((0, 1, 5, 10, 11, 60, 1440, 2880, 4320))) for _ in range(12))
    paths = (b"/a/b", b"/a/c", b"/a/b/d", b"/x", b"", b"/a/bc")
    records = [
        (
            rng.choice(("barn", "loft")),
            Record(
                moment,
                rng.choice(("ada", "ADA", "bo")),
                rng.choice((Did.OPEN, Did.CHANGE, Did.DELETE)),
                rng.choice(paths),
                is_done=rng.random() < 0.8,
                address=rng.choice(("", "10.0.0.1")),
                number=rng.choice((1, 3)),
            ),
        )
        for moment in moments
    ]
    moves = Moves(
        [
            Move(rng.randrange(10), rng.choice((b"/a", b"/a/b", b"/x")), rng.choice((b"/y", b"/a/z", b"/x/b")))
            for _ in range(4)
        ]
    )
    gaps = tuple(Gap(moment, moment + HOUR, "lost") for moment in rng.sample(moments, 2))
    some = [
        Coverage(
            moments[rng.randrange(4)],
            moments[-1 - rng.randrange(3)],
            gaps[: rng.randrange(3)],
            frozenset(rng.sample(list(Did), 2)),
        )
        for _ in range(rng.randrange(3))
    ]
    common = common_coverage(some)
    recorded({
        "folds": [[one.system, one.first.moment, one.last.moment, one.number, one.place] for one in fold(records, timedelta(minutes=10))],
        "moves": [[path, moves.moments_of(path), [moves.now(path, moment) for moment in (0, 4, 5, 9)], moves.earlier_names(path)] for path in (b"/a", b"/a/b/c", b"/y", b"/x/b")],
        "covered": None if common is None else [common.first, common.until, common.since, common.days_seen(), common.gaps, sorted(did.name for did in common.dids)],
        "silent": silences(moments, rng.choice((HOUR, timedelta(minutes=10), 24 * HOUR))), "severity": [[severity_of(did, is_done=is_done) for is_done in (True, False)] for did in Did],
    })  # fmt: skip


@pytest.mark.parametrize("seed", range(20))
def test_how_grave_causes_are(seed: int, recorded) -> None:
    rng = random.Random(seed)
    plan = said_plan(rng)
    checks = sorted(CHECKS)
    findings = [
        Finding(
            rng.choice(checks),
            rng.choice((*FOLDERS, "meadow:gus")),
            f"e{n}",
            "",
            rng.choice(("", "", "link k1")),
            tuple(rng.sample(("ada", "bo", ANYONE), rng.randrange(3))),
            rng.choice((Right.NONE, *LEVEL_RIGHTS.values())),
        )
        for n in range(12)
    ]
    found = find_causes(findings, plan, lambda one: int(one.evidence[1:]) * 2)
    recorded(
        [
            [
                one.key,
                str(one.place),
                [each.evidence for each in one.findings],
                properties(one.exposure),
                one.people,
                one.severity,
            ]
            for one in found
        ]
    )
