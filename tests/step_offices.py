"""Offices whose systems are changed, by lot: trees, directories and services, steps that fit them, and their looks."""

from __future__ import annotations

import json
import random
import subprocess
import warnings
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path

from judges import kernel, ldap, smb
from neatledger.core.access.everyone import RowFilter
from neatledger.core.lists.nt import pack_body as pack_descriptor
from neatledger.core.lists.nt import unpack_body
from neatledger.core.lists.posix import MASK, OTHER, USER_OBJ, pack_body, pack_entries
from neatledger.core.lists.rights import parse_rights
from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import FileSort, ItemState, State, Step
from neatledger.core.steps.folders import FolderStep, PushStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.accounts import AccountState
from neatledger.core.survey.shared import Member
from neatledger.core.tree.table import folder_paths
from neatledger.demo import meadow
from neatledger.errors import StepError
from neatledger.formats.names import encode_bytes
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions import carrying
from neatledger.questions.office import Office, open_office

PLAN = """\
office: Test
domain: test.example
systems:
  barn: {source: tree, path: tree, may-change: true, accounts: {passwd: passwd, group: group}}
people: {ada: {name: Ada, accounts: {barn: ada}}, bo: {name: Bo, accounts: {barn: bo}}}
groups: {}
folders: {}
"""


def make_office(folder: Path, seed: int, folders: int = 14) -> Path:
    kernel.make_random_tree(folder / "tree", seed, folders)
    (folder / "passwd").write_text(kernel.PASSWD)
    (folder / "group").write_text(kernel.GROUP_FILE)
    (folder / "office.yaml").write_text(PLAN)
    return folder


def gathered(folder: Path, run) -> Office:
    run("count", "--quiet", "--office", folder)
    return open_office(folder, today=date.today())


def table_of(office: Office) -> dict[tuple[bytes, str], tuple]:
    """Return everybody's rights on every folder, by all ways, with the counts of files."""
    everyone = office.systems.everyone("barn", office.systems.holders["barn"])
    path_of = folder_paths(everyone.matrix.folders)
    principals = everyone.matrix.principals
    found = {}
    for block in everyone.blocks(RowFilter.ALL):
        counts = block.counts
        cells = (block.folder, block.column, block.flags, block.unknown, counts.read, counts.change, counts.delete)
        for folder, column, *more in zip(*(each.tolist() for each in cells), strict=True):
            who = everyone.columns[column]
            login = principals[who.principals[0]].account.login if who.principals else ""
            found[path_of(folder), f"{who.way} {login}"] = tuple(more)
    return found


KINDS_OF_STEPS = ("list", "list", "list", "files", "files", "folder", "push", "member", "member")


def random_steps(office: Office, seed: int, number: int = 12, kinds: Sequence[str] = KINDS_OF_STEPS) -> list[Step]:
    """Return steps of the kinds that a tree knows, each fitting after those before it."""
    rng = random.Random(seed)
    state = ImaginedReader(office.readers["barn"])
    folders = [b"/"]
    for path in folders:
        folders += state.subfolders(path)
    found: list[Step] = []
    while len(found) < number:
        step = _random_step(state, rng, folders, kinds)
        if step is None:
            continue
        try:
            step.apply(state)
        except StepError:
            continue
        if isinstance(step, FolderStep):
            folders.append(step.path)
        found.append(step)
    return found


def _random_body(rng: random.Random, kept: bytes) -> bytes:
    entries = kernel._random_entries(rng)
    perm = {one.tag: one.perm for one in entries}
    group = perm.get(MASK, next(one.perm for one in entries if one.tag == 0x04))
    gid = rng.choice(kernel.GIDS) if rng.random() < 0.3 else int.from_bytes(kept[2:6], "little")
    mode = perm[USER_OBJ] << 6 | group << 3 | perm[OTHER] | rng.choice([0, 0, 0o1000, 0o2000])
    return pack_body(mode, gid, pack_entries(entries) if MASK in perm else b"")


def _random_item(rng: random.Random, before: ItemState) -> ItemState:
    owner = str(rng.choice(kernel.UIDS)) if rng.random() < 0.3 else before.owner
    default = before.default
    if rng.random() < 0.4:
        default = None if rng.random() < 0.3 else pack_body(0, 0, pack_entries(kernel._random_entries(rng)))
    return ItemState(owner, _random_body(rng, before.body), default)


def _random_step(state: State, rng: random.Random, folders: Sequence[bytes], kinds: Sequence[str]) -> Step | None:
    path = rng.choice(folders)
    item = state.folder_state(path)
    assert item is not None
    match rng.choice(kinds):
        case "list":
            return ListStep("barn", path, "posix", item, _random_item(rng, item))
        case "files":
            sorts = dict(state.file_sorts(path))
            if not sorts:
                return None
            before = rng.choice(list(sorts))
            body = _random_body(rng, before.body)
            mode = int.from_bytes(body[:2], "little") & ~0o7000
            after = FileSort(before.owner, mode.to_bytes(2, "little") + body[2:])
            return FilesStep("barn", path, "posix", before, after, sorts[before])
        case "folder":
            name = rng.choice(kernel.NAMES) + b" made %d" % rng.randrange(99)
            return FolderStep("barn", path.rstrip(b"/") + b"/" + name, "posix", _random_item(rng, item))
        case "push":
            return PushStep("barn", path, "posix")
        case _:
            group = rng.choice(state.groups)
            login = rng.choice(state.accounts).login
            return MemberStep("barn", group.ident, group.name, login, False, rng.random() < 0.5)
    return None


def looks(folder: Path) -> bytes:
    """Return the looks of a tree, with its group file."""
    told = subprocess.run(["getfacl", "-R", "-p", "-n", "tree"], cwd=folder, capture_output=True, check=True)
    return told.stdout + (folder / "group").read_bytes()


def now() -> datetime:
    return datetime.now(UTC)


def resume(office: Office, work, password: str = "", user: str = "") -> carrying.Carried:
    carriers = carrying.Carriers(office, lambda _: lambda _, host: Credentials(user, password))
    try:
        with warnings.catch_warnings():
            # As the command itself: libraries' own old names are theirs to mend.
            warnings.simplefilter("ignore", DeprecationWarning)
            return work(office.ledger.journal, carriers, now)
    finally:
        carriers.close()


def carry(office: Office, steps: Sequence[Step], password: str = "", user: str = "") -> carrying.Carried:
    def work(journal, carriers, clock) -> carrying.Carried:
        return carrying.carry_out(journal, steps, carriers, clock)

    return resume(office, work, password, user)


# Directories -----------------------------------------------------------------------------------------

DIRECTORY_PLAN = """\
office: Test
domain: test.example
systems:
  people: {{source: directory, may-change: true, accounts: {{ldap: {{url: "{url}", base: "{base}", ca: cert.pem, user: "{user}"}}}}}}
people: {{}}
groups: {{}}
folders: {{}}
"""


def told(folder: Path) -> list[str]:
    """Return what a directory holds, but for what it notes of changes by itself."""
    noted = ("entryCSN:", "entryUUID:", "contextCSN:")
    noted += ("createTimestamp:", "modifyTimestamp:", "creatorsName:", "modifiersName:")
    entries = ldap.export(folder).replace("\n ", "").split("\n\n")
    # The server writes names in its own way, without spaces and with small letters for kinds.
    lines = ([one for one in entry.splitlines() if not one.startswith(noted)] for entry in entries)
    return sorted("\n".join(sorted(one.replace(",  ", ",").lower() for one in entry)) for entry in lines)


def random_memberships(office: Office, rng: random.Random, number: int) -> list[Step]:
    """Return memberships of people and of groups, each of another pair."""
    state = ImaginedReader(office.readers["people"])
    steps: list[MemberStep | GroupStep] = []
    while len(steps) < number:
        group, other = rng.choice(state.groups), rng.choice(state.groups)
        login, is_in = rng.choice(state.accounts).login, rng.random() < 0.6
        step: MemberStep | GroupStep = MemberStep("people", group.ident, group.name, login, False, is_in)
        if rng.random() < 0.15:
            name = f"new, #{len(steps)} "
            step = GroupStep("people", name, name, True, login)
            taken = {one.member for one in steps if isinstance(one, MemberStep) and one.group == group.ident}
            if is_in and not {*group.members} & taken and not group.nested and len(group.members) == 1:
                step = GroupStep("people", group.ident, group.name, False, group.members[0])
        elif rng.random() < 0.3 and group.ident != other.ident:
            step = MemberStep("people", group.ident, group.name, other.ident, True, is_in, other.name)
        if any((one.group, one.target) == (step.group, step.target) for one in steps):
            continue  # the texts are told from the directory as it stands before all of them
        if (
            isinstance(step, MemberStep)
            and not step.is_group
            and any(one.primary == group.ident for one in state.accounts if one.login == login)
        ):
            continue
        try:
            step.apply(state)
        except StepError:
            continue
        if (
            isinstance(step, MemberStep)
            and not is_in
            and not state.groups[[one.name for one in state.groups].index(group.name)].members
        ):
            step.inverse().apply(state)  # a group of names may not be left empty (RFC 4519 section 3.5)
            continue
        steps.append(step)
    return list(steps)


# SMB -------------------------------------------------------------------------------------------------


def random_descriptor_steps(office: Office, rng: random.Random, folders: Sequence[bytes]) -> list[Step]:
    """Return lists and owners set on some folders and the files in them, and a folder made in each."""
    state = ImaginedReader(office.readers["loft"])
    steps: list[Step] = []
    for folder in folders:
        item = state.folder_state(folder)
        fresh = smb.random_descriptor(rng)
        body = pack_descriptor(replace(fresh, group=unpack_body(item.body).group))
        step = ListStep("loft", folder, "nt", item, ItemState(fresh.owner, body))
        if fresh.dacl is None or step.before == step.after:
            continue
        (sort, files), *_ = state.file_sorts(folder).items()
        other = FileSort(fresh.owner, pack_descriptor(replace(fresh, group=unpack_body(sort.body).group)))
        steps += [step, *([FilesStep("loft", folder, "nt", sort, other, files)] if other != sort else [])]
        steps.append(FolderStep("loft", folder + b"/made here", "nt", step.after))
    return steps


# Services --------------------------------------------------------------------------------------------

SERVICE_PLAN = """\
office: Test
domain: test.example
systems:
  meadow:
    source: dav
    may-change: true
    url: {url}/dav/
    web: {{user: {user}, token-url: {url}/token}}
    accounts: {{scim: {url}/scim/v2}}
    sharing: {{url: {url}/sharing}}
people: {{}}
groups: {{}}
folders: {{}}
"""


def random_sharing_steps(office: Office, rng: random.Random, number: int) -> list[Step]:
    state = ImaginedReader(office.readers["meadow"])
    found: list[Step] = []
    while len(found) < number:
        shared = state.shared
        match rng.choice(["member", "member", "group", "account", "link", "link", "hand-out", "team", "team"]):
            case "member":
                group, login = rng.choice(state.groups), rng.choice(state.accounts).login
                step = MemberStep("meadow", group.ident, group.name, login, False, rng.random() < 0.5)
            case "group":
                name, login = f'new "{len(found)}"', rng.choice([*state.accounts]).login
                step = GroupStep("meadow", name, name, True, rng.choice(["", login]))
                if rng.random() < 0.5:
                    group = rng.choice(state.groups)
                    step = GroupStep("meadow", group.ident, group.name, False, "".join(group.members[:1]))
            case "account":
                one = rng.choice(state.accounts)
                if one.login == meadow.READER:
                    continue
                states = AccountState.OPEN, AccountState.DISABLED
                step = AccountStep("meadow", one.login, *rng.choice([states, states[::-1]]))
            case "link":
                link = rng.choice(shared.links)
                after = replace(link, is_on=rng.random() < 0.5, expires=rng.choice([None, date(2027, 1, 5)]))
                if after == link:
                    continue
                step = LinkStep("meadow", link, after)
            case "hand-out":
                if len(shared.hand_outs) < 3:
                    continue
                given = rng.choice(shared.hand_outs)
                step = HandOutStep("meadow", given, rng.choice([None, replace(given, expires=date(2027, 3, 1))]))
                if step.before == step.after:
                    continue
            case _:
                team = rng.choice(shared.teams)
                gone = rng.sample(team.members, rng.randint(0, len(team.members)))
                fresh = [Member(one.login, False, parse_rights("write")) for one in rng.sample(state.accounts, 2)]
                kept = [one for one in team.members if one not in gone]
                known = {(one.is_group, one.holder) for one in team.members}
                members = (*kept, *(one for one in fresh if (False, one.holder) not in known))
                step = TeamStep("meadow", team, replace(team, members=members, download=rng.random() < 0.5))
        try:
            step.apply(state)
        except StepError:
            continue
        found.append(step)
    return found


def shared_of(office: Office) -> dict[str, object]:
    reader = office.readers["meadow"]
    shared = reader.shared
    return {
        "teams": {one.path: replace(one, members=tuple(sorted(one.members, key=str))) for one in shared.teams},
        "links": {one.id: one for one in shared.links},
        "hand-outs": {one.id: one for one in shared.hand_outs},
        "groups": {one.name: (sorted(one.members), one.nested) for one in reader.groups},
        "accounts": {one.login: one.state for one in reader.accounts},
    }


def with_random_plan(folder: Path, seed: int, run) -> Office:
    """Return the office of a random tree with a plan that means something else by it."""
    make_office(folder, seed + 500, 12)
    rng = random.Random(seed)
    state = ImaginedReader(gathered(folder, run).readers["barn"])
    found = [b"/"]
    for path in found:
        found += state.subfolders(path)
    paths = [encode_bytes(path) for path in found]
    holders = ["vets", "vets2", "desk", "empty", "ada", "bo", "everyone"]
    plan = {"office": "Test", "domain": "test.example"}
    plan["systems"] = {"barn": {"source": "tree", "path": "tree", "may-change": True,
                                "accounts": {"passwd": "passwd", "group": "group"}}}  # fmt: skip
    plan["people"] = {name: {"name": name, "accounts": {"barn": name}} for name in ("ada", "bo", "cy", "dee", "high")}
    members = {
        name: rng.sample(list(plan["people"]), rng.randint(0, 3)) for name in ("vets", "vets2", "desk", "empty")
    }
    plan["groups"] = {name: {"members": some} for name, some in members.items()}
    plan["folders"] = {
        f"barn:{path}": {
            "closed": rng.random() < 0.5,
            "grants": {holder: rng.choice(["read", "write"]) for holder in rng.sample(holders, 2)},
        }
        for path in rng.sample(paths, 6)
    }
    (folder / "office.yaml").write_text(json.dumps(plan))
    return gathered(folder, run)
