"""Drafts: accounts joined without a false one, the fewest grants that say what is, and a plan that nothing differs from."""

from __future__ import annotations

import json
import random
import re
import shutil
from collections import Counter
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger.core.drafting.grants import SAYABLE, GrantDrafter
from neatledger.core.drafting.limits import FoundOn, LimitDrafter
from neatledger.core.drafting.people import _plain, draft_people, login_forms
from neatledger.core.drafting.sharing import draft_rules
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import On, Settings
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.survey.accounts import Account
from neatledger.core.survey.shared import Audience, HandOut, Link, Shared, Towards
from neatledger.ledger.locations import find_location
from neatledger.office.addresses import parse_address
from neatledger.questions import check, draft, worklist
from neatledger.questions.office import open_office
from step_offices import carry, gathered, with_random_plan

FIRST = ["Ada", "Bo", "Cy", "Dee", "Eve", "Finn", "Gil", "Hal"]
LAST = ["Stone", "Marsh", "Locke", "Vane", "Wren", "Ashby-Cole", "Müller"]
TOLD = Right.LIST | Right.READ | Right.ADD | Right.MANAGE


@given(st.integers(0, 10**6))
def test_accounts_are_joined_as_they_belong_and_never_falsely(seed: int) -> None:
    """Offices of people with accounts on three systems: logins of every form, names and addresses often missing."""
    rng = random.Random(seed)
    people = [(rng.choice(FIRST), rng.choice(LAST)) for _ in range(rng.randint(2, 14))]
    owner, principals = {}, []
    for number, (first, last) in enumerate(people):
        for system in ("barn", "loft", "meadow"):
            if rng.random() < 0.3:
                continue
            login = rng.choice(sorted(login_forms(f"{first} {last}")))
            while any(one.system == system and one.account.login == login for one in principals):
                login += str(rng.randint(1, 9))
            email = f"{first}.{last}{number}@x.example".casefold() if rng.random() < 0.7 else "office@x.example"
            account = Account(login, f"{2000 + number}", "1", f"{first} {last}" if rng.random() < 0.8 else "", email)
            principal = Principal(
                login, account.name, Kind.STAFF, system, account, Holder(login, account.ident, frozenset()), False
            )
            owner[system, login] = number
            principals.append(principal)
    found, doubts = draft_people(principals, [])
    for one in found:
        names = {people[owner[each.system, each.account.login]] for each in one.principals}
        assert len(names) == 1, "accounts of two people were joined"
        emails = {each.account.email for each in one.principals if not each.account.email.startswith("office@")}
        assert len(emails) < 2 and len({each.system for each in one.principals}) == len(one.principals)
    assert len({one.id for one in found}) == len(found)
    joined = {(each.system, each.account.login): one.id for one in found for each in one.principals}
    assert set(joined) == {(one.system, one.account.login) for one in principals}
    for one in principals:
        for other in principals:
            same = one.account.email == other.account.email and not one.account.email.startswith("office@")
            if same and one.system != other.system:
                mine, theirs = (joined[each.system, each.account.login] for each in (one, other))
                pair = {(one.system, one.account.login), (other.system, other.account.login)}
                told = any(
                    {(d.one.system, d.one.account.login), (d.other.system, d.other.account.login)} <= pair
                    for d in doubts
                )
                assert mine == theirs or told


STYLES = {"jhale": "{0[0]}{1}", "jonas.hale": "{0}.{1}", "halej": "{1}{0[0]}", "jonash": "{0}{1[0]}"}
MORE = ["Ivy", "Jon", "Kay", "Lea"], ["Hill", "Frost", "Birch", "Pike", "Dove"]


def test_nearly_all_accounts_of_one_person_are_joined() -> None:
    """Each system writes logins in one way; one account in ten has no name, and three in ten no address."""
    joined = together = 0
    for seed in range(300):
        rng = random.Random(seed)
        people = sorted(
            {(rng.choice(FIRST + MORE[0]), rng.choice(LAST + MORE[1])) for _ in range(rng.randint(10, 26))}
        )
        styles = {system: rng.choice(sorted(STYLES)) for system in ("barn", "loft", "meadow")}
        principals, owner = [], {}
        for number, (first, last) in enumerate(people):
            for system, style in styles.items():
                if rng.random() < 0.3:
                    continue
                login = STYLES[style].format(_plain(first), _plain(last))
                while (system, login) in owner:
                    login += str(rng.randint(1, 9))
                email = f"{first}.{last}{number}@x.example".casefold() if rng.random() < 0.7 else ""
                name = f"{first} {last}" if rng.random() < 0.9 else ""
                account = Account(login, f"{2000 + number}", "1", name, email)
                holder = Holder(login, account.ident, frozenset())
                principals.append(Principal(login, name, Kind.STAFF, system, account, holder, False))
                owner[system, login] = number
        found, _ = draft_people(principals, [])
        for one in found:
            numbers = Counter(owner[each.system, each.account.login] for each in one.principals)
            assert len(numbers) == 1, (seed, one)
            joined += sum(many * (many - 1) // 2 for many in numbers.values())
        together += sum(many * (many - 1) // 2 for many in Counter(owner.values()).values())
    assert joined >= 0.95 * together > 5000, joined / together


NAMES = ["ada", "bo", "cy", "dee", "eve"]


@given(
    st.lists(st.sampled_from([Level.NONE, *SAYABLE]), min_size=5, max_size=5),
    st.dictionaries(st.sampled_from("ghijk"), st.frozensets(st.sampled_from(NAMES), min_size=1)),
)
def test_grants_give_exactly_what_is_wanted_and_none_is_idle(
    levels: list[Level], groups: dict[str, frozenset[str]]
) -> None:
    found = GrantDrafter(NAMES, groups).draft(levels)

    def given_by(grants: dict[str, Level], person: str) -> Right:
        rights = Right.NONE
        for holder, level in grants.items():
            rights |= LEVEL_RIGHTS[level] if holder == person or person in groups.get(holder, ()) else Right.NONE
        return rights & TOLD

    for person, level in zip(NAMES, levels, strict=True):
        assert given_by(found, person) == (LEVEL_RIGHTS[level] & TOLD if level is not Level.NONE else Right.NONE)
    for holder in found:
        fewer = {one: level for one, level in found.items() if one != holder}
        assert any(given_by(fewer, person) != given_by(found, person) for person in NAMES), (
            "a grant that gives nothing"
        )
    assert len(found) <= sum(level is not Level.NONE for level in levels)


@pytest.mark.judge
@pytest.mark.seeds(2)
def test_nothing_differs_from_a_draft_but_what_it_asks_about(seed: int, tmp_path: Path, run) -> None:
    """A hidden plan made real on a random tree: the draft says it again, and names what is noise; and is taken out."""
    office = with_random_plan(tmp_path, seed, run)
    carry(office, [item.step for item in worklist.ask(office).makeable()])
    gathered(tmp_path, run)
    hidden = json.loads((tmp_path / "office.yaml").read_text())
    (tmp_path / "office.yaml").write_text(json.dumps({key: hidden[key] for key in ("office", "domain", "systems")}))
    before = open_office(tmp_path, today=date.today())
    found = draft.ask(before)
    told = run("draft", "--write", "--office", tmp_path).stdout
    now = open_office(tmp_path, today=date.today())
    asked = {str(one.place) for one in found.questions}
    unsaid = "which a plan cannot say" in told
    for one in check.ask_anew(now, ["plan-differs"]):
        # A plan speaks of folders: of files that are closed in one of them the checks tell, and no question is asked.
        assert unsaid or str(one.place) in asked or one.evidence.endswith("the lists of its files"), one
    assert len(now.plan.people) == len(found.people)
    run("draft", "--undo", "--office", tmp_path)
    assert not open_office(tmp_path, today=date.today()).plan.people


def head_of(plan: str) -> str:
    """Return what a plan says before its people, without who of them holds keys."""
    return re.sub(r" +encrypted: .*\n|,? ?restore: \[\w+\]", "", plan[: plan.index("\npeople:")])


def test_the_sample_offices_draft_is_short_and_merges_with_what_is_there(demo: Path, run) -> None:
    text = (demo / "office.yaml").read_text()
    head = head_of(text)
    thorne = "people:\n  thorne: {name: Margaret Thorne, accounts: {barn: mthorne}} # ours\n"
    (demo / "office.yaml").write_text(f"{head}\n{thorne}")
    run("draft", "--write", "--office", demo)
    plan = open_office(demo).plan
    assert "# ours" in (demo / "office.yaml").read_text() and plan.people["thorne"].accounts == {"barn": ("mthorne",)}
    payroll = next(one for one in plan.folders if one.address.path == b"/Payroll")
    assert payroll.closed and payroll.grants["payroll"] is Level.WRITE and len(plan.folders) < 30
    assert plan.people["moss"].accounts.keys() == {"barn", "loft", "meadow"}
    asked = run("draft", "--office", demo).stdout
    assert "should everyone add files?" in asked and "is that meant?" in asked


def status(limit: int, enforced: bool = True) -> Settings:
    return Settings(limit, enforced)


@given(st.integers(0, 10**6))
def test_bands_say_every_limit_again_and_slips_are_asked_about(seed: int) -> None:
    """Folders and people with limits by lot: what the plan says of each place is what was found, or a question."""
    rng = random.Random(seed)
    usual = rng.choice([2_000_000, 5_000_000])
    names = [f"h{number}" for number in range(rng.randint(3, 9))]
    found, asked_of = [], set()
    for name in names:
        kind = rng.choice(["usual"] * 6 + ["other", "unit", "zero", "none"])
        if kind == "none":
            asked_of.add(name)
            continue
        limit = {"usual": usual, "other": 3_333_333, "unit": usual * 1000, "zero": 0}[kind]
        found.append(FoundOn(On.FOLDER, f"/Homes/{name}", status(limit)))
    drafter = LimitDrafter(["home"])
    drafter.add("barn", found, {"/Homes": names}, ["/Homes"], [])
    drafted = drafter.found
    asked = " ".join(f"{one.place} {one.text}" for one in drafted.questions)
    said: dict[str, int] = {}
    for one in sorted(drafted.limits, key=lambda one: "*" not in one.key):
        settings = one.own or drafted.bands[one.band]
        places = names if "*" in one.key else [one.key.rpartition("/")[2]]
        said |= dict.fromkeys(places, settings.limit)
    for one in found:
        name = one.name.rpartition("/")[2]
        assert said.get(name) == one.settings.limit or f"/Homes/{name} " in f"{asked} ", (name, asked)
    if any("*" in one.key for one in drafted.limits):
        assert all(name in asked for name in asked_of) and len(drafted.bands) <= 2
        assert "home" not in drafted.bands, "a name that is taken stays what it was"


DAY = date(2026, 11, 29)


def link(number: int, **more: object) -> Link:
    words = {"rights": Right.READ, "audience": Audience.ANYONE, "made": date(2026, 11, 1), "password": True}
    words |= {"expires": date(2026, 12, 20)}
    return Link(str(number), "ada", b"/x", **(words | more))  # type: ignore[arg-type]


def test_sharing_is_said_as_it_is_lived_and_what_is_not_is_asked() -> None:
    links = [link(number) for number in range(6)]
    slips = [link(7, password=False), link(8, expires=None), link(9, rights=Right.READ | Right.ADD)]
    dead = [link(10, is_on=False, password=False), link(11, expires=date(2026, 1, 1))]
    found = draft_rules("meadow", Shared(links=(*links, *slips, *dead)), DAY, lambda _: False)
    rule = found.whole
    assert (rule.open_links, rule.password, rule.link_days, rule.guests) == ("read", True, 49, None)
    asked = [one.place for one in found.questions if isinstance(one.place, str)]
    assert sorted(asked) == [f"meadow: link {number}" for number in (7, 8, 9)]
    assert sum(not isinstance(one.place, str) for one in found.questions) == 1, "one folder, one question"
    few = draft_rules("meadow", Shared(links=tuple(links[:2])), DAY, lambda _: False)
    assert few.whole.password is None and few.whole.link_days is None, "of two nothing can be told"
    told = PlacedRule(RuleOn.SYSTEM, "meadow", SharingRule(link_days=30))
    assert draft_rules("meadow", Shared(rules=(told,)), DAY, lambda _: False).whole.link_days == 30


def handed(number: int, **more: object) -> HandOut:
    words = {"giver": "ada", "receiver": f"p{number}", "towards": Towards.PERSON, "path": b"/y", "rights": Right.READ}
    return HandOut(f"h{number}", **(words | more))  # type: ignore[arg-type]


THREE, NONE_OUT = [link(number) for number in range(3)], {"guests": Guests.NONE}
NAMED = {"audience": Audience.NAMED, "named": ("ben",)}
LIVED = [
    (THREE[:2], [], {"open_links": "read"}), (THREE, [], {"open_links": "read", "password": True, "link_days": 49}),
    ([*THREE, link(3, password=False)], [], {"open_links": "read", "password": True, "link_days": 49}),
    # Of six, four are not yet most: more than two thirds are.
    ([*THREE, link(3), *(link(4 + n, password=False) for n in range(2))], [], {"open_links": "read", "link_days": 49}),
    ([*THREE, link(3, expires=date(2026, 12, 21)), link(4, expires=None)], [], {"open_links": "read", "password": True, "link_days": 50}),
    ([*THREE, link(3, expires=None), link(4, expires=None)], [], {"open_links": "read", "password": True}),
    ([*THREE, link(3, made=None)], [], {"open_links": "read", "password": True, "link_days": 49}),
    ([*THREE, link(3, rights=Right.READ | Right.DELETE)], [], {"open_links": "read", "password": True, "link_days": 49}),
    ([*THREE[:2], link(3, rights=Right.CHANGE)], [], {"password": True, "link_days": 49}),
    ([link(n, audience=Audience.OFFICE) for n in range(2)], [], {}),
    ([link(n, audience=Audience.OFFICE) for n in range(3)], [], {"open_links": "nothing", "link_days": 49}),
    ([link(n, audience=Audience.GUESTS) for n in range(2)], [], {"guests": Guests.LISTED}),
    ([link(n, **NAMED) for n in range(2)], [], {}), ([link(n, **NAMED) for n in range(3)], [], {"open_links": "nothing", "link_days": 49, **NONE_OUT}),
    ([], [handed(n) for n in range(2)], {}), ([], [handed(n) for n in range(3)], {"pass_on": False, **NONE_OUT}),
    ([], [handed(0, passed_from="h1"), handed(1), handed(2)], NONE_OUT), ([], [handed(0, receiver="gus@out.example")], {"guests": Guests.LISTED}),
    ([], [*(handed(n) for n in range(2)), handed(2, giver="")], {}), ([], [*(handed(n) for n in range(2)), handed(2, is_doubtful=True)], {}),
    ([], [*(handed(n) for n in range(2)), handed(2, expires=date(2026, 11, 28))], {}),
    ([], [*(handed(n) for n in range(2)), handed(2, expires=date(2026, 11, 29))], {"pass_on": False, **NONE_OUT}),
    ([*THREE[:2], link(3, is_doubtful=True)], [], {"open_links": "read"}), ([*THREE[:2], link(3, starts=date(2026, 12, 1))], [], {"open_links": "read"}),
]  # fmt: skip


@pytest.mark.parametrize(("links", "handed_out", "said"), LIVED, ids=range(len(LIVED)))
def test_a_rule_is_what_most_keep_to(links: list[Link], handed_out: list[HandOut], said: dict[str, object]) -> None:
    shared = Shared(links=tuple(links), hand_outs=tuple(handed_out))
    found = draft_rules("meadow", shared, DAY, lambda name: "@" in name)
    assert found.whole == SharingRule(**said)  # type: ignore[arg-type]


def test_what_is_open_or_for_a_stranger_is_asked_about() -> None:
    links = [link(1), link(2), link(3, audience=Audience.OFFICE), link(4, audience=Audience.GUESTS, named=())]
    links += [link(5, audience=Audience.NAMED, named=("x@out.example", "ben"))]
    shared = Shared(links=tuple(links), hand_outs=(handed(1, receiver="y@out.example"), handed(2, receiver="cy")))
    found = draft_rules("meadow", shared, DAY, lambda name: None)
    assert [(str(one.place), one.text) for one in found.questions] == [
        ("meadow:/x", "the links 1, 2 open it to whoever has it: is that meant?"),
        ("meadow:/x", "the link 3 opens it to everybody in the office: is that meant?"),
        ("meadow:/x", "the link 4 opens it to every guest: is that meant?"),
        ("meadow: link 5", "for x@out.example, who has no account there: is that meant?"),
        ("meadow: hand-out h1", "for y@out.example, who has no account there: is that meant?"),
    ]


GB = 1_000_000_000


@pytest.mark.parametrize(("limits", "inside", "bands", "keys"), [
    ([5, 5, 5], 3, {"home": 5}, {"/Homes/*": ("home", None)}), ([5, 5], 2, {}, {"/Homes/a": ("", 5), "/Homes/b": ("", 5)}),
    ([5, 5, 5], 5, {"home": 5}, {"/Homes/*": ("home", None)}), ([5, 5, 5], 6, {"home": 5}, dict.fromkeys(["/Homes/a", "/Homes/b", "/Homes/c"], ("home", None))),
    ([5, 5, 5, 7], 4, {"home": 5}, {"/Homes/*": ("home", None), "/Homes/d": ("home", 7)}),
    ([5, 5, 5, 7, 7, 7], 6, {"home": 5, "home-2": 7}, {f"/Homes/{name}": ("home" if name < "d" else "home-2", None) for name in "abcdef"}),
    ([5, 5, 5, 5, 7, 7, 7], 7, {"home": 5}, {"/Homes/*": ("home", None), **dict.fromkeys(["/Homes/e", "/Homes/f", "/Homes/g"], ("home", 7))}),
    ([0, 5, 5, 5], 4, {"home": 5}, {"/Homes/*": ("home", None)}), ([5, 5, 5, 5000], 4, {"home": 5}, {"/Homes/*": ("home", None)}),
])  # fmt: skip
def test_a_band_is_what_more_than_half_have(limits, inside: int, bands, keys) -> None:
    names = "abcdefgh"
    found = [FoundOn(On.FOLDER, f"/Homes/{names[n]}", Settings(GB * one)) for n, one in enumerate(limits)]
    drafter = LimitDrafter([])
    drafter.add("barn", found, {"/Homes": list(names[:inside])}, ["/Homes"], [])
    told = drafter.found
    assert {name: one.limit for name, one in told.bands.items()} == {name: GB * one for name, one in bands.items()}
    said = {one.key.removeprefix("barn:"): (one.band, one.own and one.own.limit) for one in told.limits}
    assert said == {key: (band, own and GB * own) for key, (band, own) in keys.items()}
    has_slip = any(one == 0 or one == 1000 * limits[0] for one in limits)
    lacking = inside > len(limits) and any(key.endswith("*") for key in keys)
    assert len(told.questions) == has_slip + lacking


HOMES = {"barn:/Homes/hlark", "barn:/Homes/nwren"}


def places_of(run, where: Path, name: str) -> set[str]:
    found = run("check", "--only", name, "--format", "json", "--office", where, status=None).stdout
    return {row["place"] for row in json.loads(found)["rows"]}


def test_a_whole_plan_is_drafted_of_the_sample_office_and_taken_out_again(
    made_demo: Path, tmp_path: Path, run
) -> None:
    shutil.copytree(made_demo, tmp_path / "o")
    text = (tmp_path / "o" / "office.yaml").read_text()
    bare = head_of(text).replace("    homes: [/Homes]\n", "") + "\n"
    (tmp_path / "o" / "office.yaml").write_text(bare)
    told = run("draft", "--write", "-a", "--office", tmp_path / "o").stdout
    assert "a unit too large (1000)" in told and "a limit of zero" in told and "a person, or a device" in told
    plan = open_office(tmp_path / "o").plan
    homes = {one.name: one.settings.limit for one in plan.space.limits if one.on is On.FOLDER}
    assert homes["/Homes/*"] == 2_000_000 and homes["/Homes/jhale"] == 10_000_000 and "/Homes/nwren" not in homes
    assert plan.systems["barn"].homes == (b"/Homes",) and plan.sharing.rules
    for name, left in (("limit-differs", set()), ("off-band", HOMES)):
        assert places_of(run, tmp_path / "o", name) <= left, name
    assert "for desk@clinic.example, who has no account" in told
    run("draft", "--undo", "--office", tmp_path / "o")
    assert (tmp_path / "o" / "office.yaml").read_text().split() == bare.split()


def test_accounts_of_people_whom_the_plan_has_are_asked_about_and_not_drafted_again(demo: Path, run) -> None:
    text = (demo / "office.yaml").read_text()
    head = head_of(text)
    (demo / "office.yaml").write_text(
        f"{head}\npeople:\n  moss: {{name: Dilys Moss, email: moss@pellowmere.example, accounts: {{barn: dmoss}}}}\n"
    )
    found = draft.ask(open_office(demo))
    assert not any(one.name == "Dilys Moss" for one in found.people)
    assert any(one.place == "meadow:moss" and "the account of moss?" in one.text for one in found.questions)


DOMAIN = "S-1-5-21-1-2-3"
MASKS = {"read": "0x1200a9", "write": "0x1301bf"}


def make_hidden(folder: Path, rng: random.Random, noise: int) -> tuple[dict[str, dict[str, str]], dict[str, str]]:
    """Write a listing that a hidden plan would make, with stray entries by lot; return its grants and the strays."""
    people = [f"p{number}" for number in range(rng.randint(6, 25))]
    groups = {f"g{n}": rng.sample(people, rng.randint(2, len(people) // 2)) for n in range(rng.randint(2, 7))}
    sids = {name: f"{DOMAIN}-{number}" for number, name in enumerate([*people, *groups], 1100)}
    rows = (f"{p},{sids[p]},Person {p.title()}x{n},{p}@x.example" for n, p in enumerate(people))
    (folder / "people.csv").write_text("\n".join(["login,id,name,email", *rows]))
    (folder / "groups.csv").write_text("\n".join(["name,id", *(f"{group},{sids[group]}" for group in groups)]))
    inside = (f"{group},{one}" for group, some in groups.items() for one in some)
    (folder / "members.csv").write_text("\n".join(["group,member", *inside]))
    paths = ["/"]
    for number in range(rng.randint(10, 40)):
        paths.append(f"{rng.choice(paths).rstrip('/')}/f{number}")
    hidden, closed = {}, set()
    for path in rng.sample(paths[1:], rng.randint(2, 8)):
        holders = rng.sample([*groups, rng.choice(people)], rng.randint(1, 3))
        hidden[path] = {one: rng.choice(list(MASKS)) for one in holders}
        closed |= {path} if rng.random() < 0.6 else set()
    strays = {rng.choice(paths[1:]): rng.choice(people) for _ in range(noise)}
    lines = ["path,type,list"]
    for path in sorted(paths):
        aces, here, is_open = [], path, True
        while here:
            if is_open:
                aces += [(sids[one], level) for one, level in hidden.get(here, {}).items()]
                is_open = here not in closed
            aces += [(sids[strays[here]], "write")] if here in strays else []
            here = "" if here == "/" else here.rpartition("/")[0] or "/"
        text = "".join(f"(A;OICI;{MASKS[level]};;;{one})" for one, level in aces)
        lines.append(f'{path},folder,"O:BAD:PAI(A;OICI;FA;;;BA){text}"')
    (folder / "e.csv").write_text("\n".join(lines))
    accounts = "{people: people.csv, groups: groups.csv, members: members.csv}"
    system = f"{{source: listing, lists: nt, path: e.csv, accounts: {accounts}}}"
    (folder / "office.yaml").write_text(f"office: X\nsystems: {{loft: {system}}}\n")
    return hidden, strays


@pytest.mark.seeds(2)
def test_a_draft_is_no_longer_than_the_hidden_plan_and_names_the_noise(seed: int, tmp_path: Path, run) -> None:
    rng = random.Random(seed)
    hidden, strays = make_hidden(tmp_path, rng, 2 * (seed % 2))
    run("count", "--quiet", "--office", tmp_path)
    before = open_office(tmp_path, today=date.today())
    found = draft.ask(before)
    run("draft", "--write", "--office", tmp_path)
    now = open_office(tmp_path, today=date.today())
    asked = {str(one.place): one.text for one in found.questions}
    for one in check.ask_anew(now, ["plan-differs"]):
        assert str(one.place) in asked, one
    if not strays:
        assert len(found.folders) <= len(hidden)
        assert sum(len(one.grants) for one in found.folders) <= sum(map(len, hidden.values()))
    drafted = {str(one.address): one.grants for one in found.folders}
    for path, login in strays.items():
        person = next(one.id for one in found.people if one.principals[0].account.login == login)
        said = f"loft:{path}" in drafted or person in asked.get(f"loft:{path}", "")
        above = path.rpartition("/")[0] or "/"
        gained = rights_of(before, path, login) - rights_of(before, above, login)
        assert said or not gained, "a stray entry is neither in the plan nor asked about"


def rights_of(office, path: str, login: str) -> set[Right]:
    address = parse_address(f"loft:{path}")
    mine = [one for one in office.principals["loft"] if one.account.login == login]
    return set(office.systems.access(find_location(office.readers["loft"], address), mine).rights & TOLD)
