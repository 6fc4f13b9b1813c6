"""Steps: what they would do, in which order, carried out on real trees, killed, gone on with, and taken back."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import time
import warnings
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from conftest import ANY, COMMAND
from judges import kernel, ldap
from neatledger.core.access.everyone import RowFilter
from neatledger.core.lists.posix import pack_body
from neatledger.core.lists.rights import parse_rights
from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import FileSort, ItemState, State, Step
from neatledger.core.steps.folders import FolderStep, PushStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.table import KINDS, step_of_facts, step_to_facts
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.accounts import AccountState
from neatledger.core.survey.shared import Member
from neatledger.core.tree.table import folder_paths
from neatledger.demo import meadow
from neatledger.demo.service.server import Service
from neatledger.errors import StepError
from neatledger.formats.stepfiles import read_steps, write_steps
from neatledger.formats.steptexts import quoted, text_of_step
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions import carrying, worklist
from neatledger.questions.imagined import changes_between, imagined_office
from neatledger.questions.office import Office, open_office
from neatledger.questions.ordering import Order
from neatledger.questions.texts import StepTexts

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
    run("gather", "--quiet", "--office", folder)
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
    from neatledger.core.lists.posix import MASK, OTHER, USER_OBJ, pack_entries

    perm = {one.tag: one.perm for one in entries}
    group = perm.get(MASK, next(one.perm for one in entries if one.tag == 0x04))
    gid = rng.choice(kernel.GIDS) if rng.random() < 0.3 else int.from_bytes(kept[2:6], "little")
    mode = perm[USER_OBJ] << 6 | group << 3 | perm[OTHER] | rng.choice([0, 0, 0o1000, 0o2000])
    return pack_body(mode, gid, pack_entries(entries) if MASK in perm else b"")


def _random_item(rng: random.Random, before: ItemState) -> ItemState:
    from neatledger.core.lists.posix import pack_entries

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


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(5))
def test_what_is_supposed_is_what_a_count_shows_after_it_was_made(seed: int, tmp_path: Path, run) -> None:
    """Random steps on a hostile tree: imagined, carried out, counted again, and taken back to the same looks."""
    folder = make_office(tmp_path, seed)
    office = gathered(folder, run)
    before, first = looks(folder), table_of(office)
    steps = worklist._spelled_out(office, random_steps(office, seed))
    assert [step_of_facts(json.loads(json.dumps(step_to_facts(step)))) for step in steps] == steps
    supposed = table_of(imagined_office(office, steps))
    done = carry(office, steps)
    assert not done.stopped and len(done.made) == len(steps)
    after = gathered(folder, run)
    assert table_of(after) == supposed
    # What one state has more than another is found by comparing them, and nothing else.
    told = {(one.address.path, one.change.person) for one in changes_between(office, imagined_office(office, steps))}
    assert told or supposed == first
    assert not changes_between(imagined_office(office, steps), imagined_office(after, []))
    undone = resume(after, carrying.undo)
    assert not undone.stopped and not undone.left and looks(folder) == before
    assert table_of(gathered(folder, run)) == first


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(3))
def test_the_texts_do_the_same_to_the_kernel(seed: int, tmp_path: Path, run) -> None:
    """The printed lines, run by a shell, give the same looks as carrying out."""
    folder = make_office(tmp_path, seed + 50)
    office = gathered(folder, run)
    steps = random_steps(office, seed, kinds=("list", "list", "folder"))
    subprocess.run(["cp", "-a", folder / "tree", tmp_path / "copy"], check=True)
    assert not carry(office, steps).stopped
    script = "\n".join(line for step in steps for line in text_of_step(step, os.fsencode(tmp_path / "copy")))
    subprocess.run(["bash", "-e", "-c", script.encode()], check=True)
    made, typed = (
        subprocess.run(["getfacl", "-R", "-n", "."], cwd=tmp_path / name, capture_output=True, check=True).stdout
        for name in ("tree", "copy")
    )
    assert made == typed


@pytest.mark.judge
@pytest.mark.parametrize("is_undone", [False, True])
def test_killed_anywhere_it_is_gone_on_with_or_taken_back(is_undone: bool, tmp_path: Path, run) -> None:
    """Kill the command while it carries out, wherever it is; what follows is as if it had never been killed."""
    folder = make_office(tmp_path, 7, 40)
    office = gathered(folder, run)
    before = looks(folder)
    steps = worklist._spelled_out(office, random_steps(office, 3, 100))
    write_steps(str(tmp_path / "steps"), steps)
    assert read_steps(str(tmp_path / "steps")) == steps
    wanted = table_of(imagined_office(office, steps))
    rng = random.Random(is_undone)
    words = [COMMAND, "mend", "--office", folder, "--quiet"]
    asked = [*words, "--steps", tmp_path / "steps", "--carry-out", "--yes", str(len(steps))]
    stops = 0
    for _ in range(40):
        process = subprocess.Popen(asked, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until = time.monotonic() + 60
        while process.poll() is None and not stops and looks(folder) == before and time.monotonic() < until:
            time.sleep(0.01)
        time.sleep(rng.uniform(0.3, 1.0) if stops else rng.random() * 0.02)
        process.send_signal(signal.SIGKILL)
        if process.wait() == 0:
            break
        stops += 1
        asked = [*words, "--undo" if is_undone else "--go-on"]
        if stops > 2:
            break
    done = run(*asked[1:], status=ANY)
    assert done.returncode in (0, 2) and stops > 0
    if done.returncode == 2:
        assert "waits" in done.stderr or "taken back" in done.stderr
    if is_undone:
        assert looks(folder) == before
    else:
        assert table_of(gathered(folder, run)) == wanted
        run("mend", "--undo", "--office", folder)
        assert looks(folder) == before


@pytest.mark.judge
def test_what_was_changed_meanwhile_stops_it_or_is_left(tmp_path: Path, run) -> None:
    folder = make_office(tmp_path, 11)
    office = gathered(folder, run)
    tree = folder / "tree"
    for name in ("one", "two", "three"):
        (tree / name).mkdir(mode=0o755)
    office = gathered(folder, run)
    state = ImaginedReader(office.readers["barn"])
    item = state.folder_state(b"/one")
    closed = ItemState(item.owner, pack_body(0o700, 0))
    steps = [ListStep("barn", b"/" + name, "posix", item, closed) for name in (b"one", b"two", b"three")]
    (tree / "two").rename(tmp_path / "outside")
    (tree / "two").symlink_to(tmp_path / "outside")
    done = carry(office, steps)
    assert [step.target for step in done.made] == ["/one"] and "a link" in done.stopped and done.missing == 2
    assert (tmp_path / "outside").stat().st_mode & 0o777 == 0o755
    # Nothing else may begin before that is settled.
    with pytest.raises(StepError, match="begun and not finished"):
        carry(office, steps)
    (tree / "two").unlink()
    (tmp_path / "outside").rename(tree / "two")
    assert [step.target for step in resume(office, carrying.go_on).made] == ["/two", "/three"]
    (tree / "three").chmod(0o711)
    undone = resume(office, carrying.undo)
    assert [step.target for step in undone.made] == ["/two", "/one"]
    assert [(step.target, "another" in why) for step, why in undone.left] == [("/three", True)]
    assert (tree / "three").stat().st_mode & 0o777 == 0o711 and (tree / "one").stat().st_mode & 0o777 == 0o755
    journal = office.ledger.journal
    with pytest.raises(Exception, match="never altered"):
        journal._db.execute("DELETE FROM journal")


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(6))
def test_no_state_on_the_way_harms_anybody(seed: int, tmp_path: Path, run) -> None:
    """After every single step: nobody has what they have at neither end, nobody lacks what they have at both."""
    folder = make_office(tmp_path, seed + 100, 8)
    office = gathered(folder, run)
    some = random_steps(office, seed, 14, ("list", "files", "member"))
    # Two steps of one thing fit in one order alone.
    steps = list({one.target: one for one in reversed(some)}.values())[::-1]
    order = Order(office, steps).steps
    assert sorted(one.number for one in order) == list(range(len(steps)))
    start, end = _flags(office), _flags(imagined_office(office, steps))
    here = office
    for one in order:
        here = imagined_office(here, [one.step])
        for cell, has in _flags(here).items():
            harm = has & ~(start[cell] | end[cell]) | (start[cell] & end[cell] & ~has)
            assert not harm or one.harm, (one.step, cell)


def _flags(office: Office) -> dict[tuple[bytes, str], int]:
    everyone = office.systems.everyone("barn", office.systems.holders["barn"])
    path_of = folder_paths(everyone.matrix.folders)
    found: dict[tuple[bytes, str], int] = {}
    for block in everyone.blocks(RowFilter.ALL):
        for folder, column, flags in zip(
            block.folder.tolist(), block.column.tolist(), block.flags.tolist(), strict=True
        ):
            person = everyone.matrix.principals[everyone.columns[column].principals[0]].person
            key = path_of(folder), person
            found[key] = found.get(key, 0) | flags
    return found


def test_names_of_any_bytes_are_one_word_of_a_shell() -> None:
    for name in [*kernel.NAMES, b"it's", b"$(x) `y` \\ !", b"a\tb", bytes(range(1, 256))]:
        told = subprocess.run(["bash", "-c", b"printf %s " + quoted(name).encode()], capture_output=True, check=True)
        assert told.stdout == name


def test_every_kind_stands_in_the_table() -> None:
    assert all(kind.kind == name for name, kind in KINDS.items()) and len(KINDS) == 14


# Directories ----------------------------------------------------------------------------------------


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
    noted = ("entryCSN:", "modifyTimestamp:", "modifiersName:", "contextCSN:")
    entries = ldap.export(folder).replace("\n ", "").split("\n\n")
    # The server writes names in its own way, without spaces and with small letters for kinds.
    lines = ([one for one in entry.splitlines() if not one.startswith(noted)] for entry in entries)
    return [line for entry in lines for line in sorted(one.replace(",  ", ",").lower() for one in entry)]


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(2))
def test_members_of_a_real_directory(seed: int, tmp_path: Path, run, monkeypatch) -> None:
    """Random memberships, of people and of groups: supposed, made in a directory, read again, and taken back."""
    rng = random.Random(seed)
    entries, _ = ldap.random_ldif(rng, 60, 9)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_PEOPLE", ldap.PASSWORD)
    with ldap.running(tmp_path, entries) as url:
        user = f"cn=root,{ldap.BASE}"
        (tmp_path / "office.yaml").write_text(DIRECTORY_PLAN.format(url=url, base=ldap.BASE, user=user))
        office = gathered(tmp_path, run)
        before = told(tmp_path)
        state = ImaginedReader(office.readers["people"])
        steps: list[Step] = []
        while len(steps) < 40:
            group, other = rng.choice(state.groups), rng.choice(state.groups)
            login, is_in = rng.choice(state.accounts).login, rng.random() < 0.6
            step = MemberStep("people", group.ident, group.name, login, False, is_in)
            if rng.random() < 0.3 and group.ident != other.ident:
                step = MemberStep("people", group.ident, group.name, other.ident, True, is_in, other.name)
            if any((one.group, one.member) == (step.group, step.member) for one in steps):
                continue  # the texts are told from the directory as it stands before all of them
            if not step.is_group and any(one.primary == group.ident for one in state.accounts if one.login == login):
                continue
            try:
                step.apply(state)
            except StepError:
                continue
            if not is_in and not state.groups[[one.name for one in state.groups].index(group.name)].members:
                step.inverse().apply(state)  # a group of names may not be left empty (RFC 4519 section 3.5)
                continue
            steps.append(step)
        done = carry(office, steps, ldap.PASSWORD, user)
        assert not done.stopped and len(done.made) == len(steps)
        after = gathered(tmp_path, run)
        wanted, found = (
            {one.ident: (set(one.members), set(one.nested)) for one in reader.groups}
            for reader in (state, after.readers["people"])
        )
        assert found == wanted and told(tmp_path) != before
        undone = resume(after, carrying.undo, ldap.PASSWORD, user)
        assert not undone.left and told(tmp_path) == before
        # The texts are change records that the directory's own tool makes, to the same end.
        texts = StepTexts(after, lambda _: lambda _user, _host: Credentials(user, ldap.PASSWORD))
        with closing(texts), warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            records = "\n".join(line for step in steps for line in texts.lines(step))
        monkeypatch.setenv("LDAPTLS_REQCERT", "never")
        words = ["ldapmodify", "-x", "-ZZ", "-H", url, "-D", user, "-w", ldap.PASSWORD]
        subprocess.run(words, input=records, text=True, capture_output=True, check=True)
        again = gathered(tmp_path, run).readers["people"].groups
        assert {one.ident: (set(one.members), set(one.nested)) for one in again} == wanted


# A service -------------------------------------------------------------------------------------------

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
        match rng.choice(["member", "member", "account", "link", "link", "hand-out", "team", "team"]):
            case "member":
                group, login = rng.choice(state.groups), rng.choice(state.accounts).login
                step = MemberStep("meadow", group.ident, group.name, login, False, rng.random() < 0.5)
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
            case _:
                team = rng.choice(shared.teams)
                gone = rng.sample(team.members, rng.randint(0, len(team.members)))
                fresh = [Member(one.login, False, parse_rights("write")) for one in rng.sample(state.accounts, 2)]
                kept = [one for one in team.members if one not in gone]
                known = {(one.is_group, one.holder) for one in kept}
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


@pytest.mark.parametrize("seed", range(1))
def test_a_service_is_changed_and_changed_back(seed: int, tmp_path: Path, run, monkeypatch) -> None:
    """Members, accounts, links, hand-outs and team folders over the service's own protocols."""
    with Service(tmp_path / "service.db") as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        service.store.set_password(meadow.READER, "only for this run")
        monkeypatch.setenv("NEATLEDGER_PASSWORD_MEADOW", "only for this run")
        (tmp_path / "office.yaml").write_text(SERVICE_PLAN.format(url=service.url, user=meadow.READER))
        office = gathered(tmp_path, run)
        first = shared_of(office)
        steps = random_sharing_steps(office, random.Random(seed), 14)
        addresses = [str(row["address"]) for row in meadow.shared_tables()["links"] if row.get("address")]
        done = carry(office, steps, "only for this run", meadow.READER)
        assert not done.stopped and len(done.made) == len(steps)
        after = gathered(tmp_path, run)
        assert shared_of(after) == shared_of(imagined_office(office, steps)) != first
        undone = resume(after, carrying.undo, "only for this run", meadow.READER)
        assert not undone.left and shared_of(gathered(tmp_path, run)) == first
        ledger = (tmp_path / "ledger.db").read_bytes()
        assert addresses and not any(one.encode() in ledger for one in addresses)
