"""Steps as lines for a shell: run by one, each does what it says, once, and only of what is as it was counted."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import httpx
import pytest

from judges import kernel
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.demo import meadow
from neatledger.demo.service.server import Service
from neatledger.formats.scimrequests import query, scim_request
from neatledger.formats.shelllines import quoted
from neatledger.formats.steptexts import Ground, text_of_step
from step_offices import carry, gathered, make_office, random_steps


@pytest.mark.judge
@pytest.mark.seeds(2)
def test_the_texts_do_the_same_to_the_kernel(seed: int, tmp_path: Path, run) -> None:
    """The printed lines, run by a shell, give the same looks as carrying out."""
    folder = make_office(tmp_path, seed + 50)
    office = gathered(folder, run)
    steps = random_steps(office, seed, kinds=("list", "list", "files", "folder"))
    subprocess.run(["cp", "-a", folder / "tree", tmp_path / "copy"], check=True)
    assert not carry(office, steps).stopped
    script = "\n".join(line for step in steps for line in text_of_step(step, Ground(os.fsencode(tmp_path / "copy"))))
    subprocess.run(["dash", "-e", "-c", script.encode()], check=True)
    made, typed = (
        subprocess.run(["getfacl", "-R", "-n", "."], cwd=tmp_path / name, capture_output=True, check=True).stdout
        for name in ("tree", "copy")
    )
    assert made == typed
    # What is not as it was counted any more is left: each line by itself.
    for line in (line for step in steps for line in text_of_step(step, Ground(os.fsencode(tmp_path / "copy")))):
        refused = subprocess.run(["dash", "-c", line.encode()], capture_output=True)
        assert refused.returncode == 1 and b"not as it was counted" in refused.stderr, line
    again = subprocess.run(
        ["getfacl", "-R", "-n", "."], cwd=tmp_path / "copy", capture_output=True, check=True
    ).stdout
    assert again == typed


ADA = Account("lark", "4801", "4800", "Hugo Lark", home="/Homes/lark", shell="/bin/sh")


@pytest.mark.judge
def test_lines_for_accounts_do_what_they_say_and_only_once(tmp_path: Path) -> None:
    """Run by a shell on files of accounts of its own; one that does not fit any more says so and changes nothing."""
    is_open, closed = AccountState.OPEN, AccountState.DISABLED
    ground = Ground(is_machine=True, ident={"lark": "4801"}.get)
    steps = [
        GroupStep("barn", "4800", "larks", True),
        WholeAccountStep("barn", None, ADA, ("4800",)),
        MemberStep("barn", "4800", "larks", "nobody", False, True),
        AccountStep("barn", "lark", is_open, closed),
    ]
    lines = [line for step in steps for line in text_of_step(step, ground)]
    back = [line for step in reversed(steps) for line in text_of_step(step.inverse(), ground)]
    ask = "getent group larks; getent passwd lark; passwd -S lark | cut -d' ' -f2; getent shadow lark | cut -d: -f8"

    def run_in_files_of_its_own(*script: str) -> list[str]:
        own = f"cp -a /etc {tmp_path}/etc && mount --bind {tmp_path}/etc /etc && mount -t tmpfs none /var/mail"
        words = ["unshare", "-m", "sh", "-c", "\n".join([own, *script])]
        done = subprocess.run(words, capture_output=True, text=True)
        shutil.rmtree(tmp_path / "etc")
        return [line for line in done.stdout.splitlines() if not line.startswith(("Adding ", "Removing "))]

    told = run_in_files_of_its_own(*lines, ask)
    assert told[0].split(":")[2:] == ["4800", "lark,nobody"]
    assert told[1] == "lark:x:4801:4800:Hugo Lark:/Homes/lark:/bin/sh"
    assert told[2:] == ["L", "1"]
    # Made twice, or after somebody else's hand, each is refused by itself, and nothing changes.
    again = [f"({line}); echo $?" for line in lines[:3]]
    assert run_in_files_of_its_own(*lines, *again, ask) == ["1"] * 3 + told
    other = [*lines[:2], "usermod -u 4999 lark", f"({lines[3]}); echo $?", "passwd -S lark | cut -d' ' -f2,4"]
    assert run_in_files_of_its_own(*other)[0] == "1"
    assert run_in_files_of_its_own(*lines[:3], *back[1:], f"{ask}; echo done") == ["done"]


@pytest.mark.judge
def test_lines_for_quotas_of_owners_and_groups(tmp_path: Path) -> None:
    """Set, read again by the tools that keep them, and refused where they are not as they were counted."""
    (top := tmp_path / "top").mkdir()
    image = tmp_path / "image"
    with image.open("wb") as opened:
        opened.truncate(16 << 20)
    subprocess.run(["mkfs.ext4", "-qF", image], check=True)
    subprocess.run(["mount", "-o", "loop,usrquota,grpquota", image, top], check=True)
    try:
        subprocess.run(["quotacheck", "-cugm", top], check=True)
        subprocess.run(["setquota", "-u", "nobody", "0", "0", "5", "7", top], check=True)
        hard, soft, none = Settings(40 << 20), Settings(30 << 20, False, 7), Settings(UNLIMITED)
        for on, name, before, after, told in [
            (On.PERSON, "nobody", none, hard, "0 40960 5 7"),
            (On.PERSON, "nobody", hard, soft, "30720 0 5 7"),
            (On.GROUP, "nogroup", none, hard, "0 40960 0 0"),
            (On.PERSON, "nobody", soft, none, "0 0 5 7"),
        ]:
            lines = text_of_step(LimitStep("barn", on, name, before, after), Ground(os.fsencode(top)))
            script = "\n".join(lines)
            subprocess.run(["dash", "-e", "-c", script], check=True)
            refused = subprocess.run(["dash", "-c", script], capture_output=True)
            assert refused.returncode == 1 and b"not as it was counted" in refused.stderr
            flag = "-u" if on is On.PERSON else "-g"
            report = subprocess.run(
                ["repquota", "-v", flag, "-O", "csv", top], capture_output=True, text=True, check=True
            )
            row = next(line.split(",") for line in report.stdout.splitlines() if line.startswith(f"{name},"))
            assert " ".join([row[4], row[5], row[8], row[9]]) == told, report.stdout
    finally:
        subprocess.run(["umount", top], check=True)
    # What these tools cannot keep has no line: less than a block, and what may be passed for ever.
    for odd in (Settings(0), Settings(1500), Settings(1 << 20, False)):
        assert not text_of_step(LimitStep("barn", On.PERSON, "nobody", none, odd), Ground(os.fsencode(top)))


def test_names_of_any_bytes_are_one_word_of_a_shell() -> None:
    for name in [*kernel.NAMES, b"it's", b"$(x) `y` \\ !", b"a\tb", bytes(range(1, 256))]:
        told = subprocess.run(["dash", "-c", b"printf %s " + quoted(name).encode()], capture_output=True, check=True)
        assert told.stdout == name


def test_requests_to_a_service_do_what_they_say(tmp_path: Path) -> None:
    """Sent by hand in their order, with the ids that the service tells: an account closed does not sign in."""
    with Service(tmp_path / "service.db") as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        passwords = {meadow.READER: "the ledger's own", "hale": "hale's own"}
        for login, password in passwords.items():
            service.store.set_password(login, password)
        client = httpx.Client(auth=(meadow.READER, passwords[meadow.READER]))

        def typed(step: Step) -> None:
            known: dict[str, str] = {}
            asked: list[dict] = []
            for line in scim_request(step, f"{service.url}/scim/v2"):
                for word, ident in known.items():
                    line = line.replace(word, ident)
                if line.startswith("#"):
                    word = line.partition("stands for ")[2].split(" ")[0]
                    (resource,) = asked
                    known[word] = resource["id"]
                    continue
                method, address, *body = line.split(" ", 2)
                answer = client.request(method, address, content=body[0] if body else None)
                assert answer.status_code in (200, 201, 204), (line, answer.text)
                asked = answer.json()["Resources"] if method == "GET" else []

        def status(login: str) -> int:
            return httpx.get(f"{service.url}/sharing/links", auth=(login, passwords[login])).status_code

        is_open, closed = AccountState.OPEN, AccountState.DISABLED
        assert status("hale") == 200
        typed(AccountStep("meadow", "hale", is_open, closed))
        assert status("hale") == 401
        typed(AccountStep("meadow", "hale", closed, is_open))
        assert status("hale") == 200
        for step in (
            GroupStep("meadow", "new", "new", True, "hale"),
            MemberStep("meadow", "new", "new", "quill", False, True),
            MemberStep("meadow", "new", "new", "hale", False, False),
        ):
            typed(step)
        found = client.get(f"{service.url}/scim/v2/Users?{query('userName', 'quill')}").json()["Resources"]
        group = client.get(f"{service.url}/scim/v2/Groups?{query('displayName', 'new')}").json()["Resources"]
        assert [one["value"] for one in group[0]["members"]] == [found[0]["id"]]
        typed(GroupStep("meadow", "new", "new", False))
        assert not client.get(f"{service.url}/scim/v2/Groups?{query('displayName', 'new')}").json()["Resources"]
