"""Notices: due once for each crossing, mails that other libraries read, a real mail server, and kills while sending."""

from __future__ import annotations

import email
import email.policy
import os
import random
import re
import signal
import socket
import time
import warnings
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from pathlib import Path

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import Envelope
from hypothesis import given
from hypothesis import strategies as st

from judges import ldap, relay
from neatledger import cli
from neatledger.core.plan.notices import MailServer
from neatledger.errors import FormatError, SourceError
from neatledger.faces.letters import LETTERS, Letters
from neatledger.faces.mail import Attachment, Handed, make_mail, signed_in
from neatledger.questions import notices
from neatledger.questions.office import open_office

MONDAY = date(2026, 11, 23)
HOSTILE = st.text(st.characters(exclude_categories=()), max_size=40)


@given(HOSTILE, HOSTILE, HOSTILE, HOSTILE)
def test_no_text_becomes_a_header_and_all_of_it_arrives(name: str, subject: str, text: str, file: str) -> None:
    moment = datetime(2026, 11, 23, 12, tzinfo=UTC)
    mail = make_mail(
        "a@x.example", (name, "b@y.example"), subject, text, moment, ["k"], [Attachment(file, "text/csv", b"1,2")]
    )
    read = email.message_from_bytes(mail.as_bytes(), policy=email.policy.default)
    assert set(read.keys()) == {
        "To",
        "From",
        "Subject",
        "Date",
        "Message-ID",
        "Auto-Submitted",
        "MIME-Version",
        "Content-Type",
    }
    assert [one.addr_spec for one in read["To"].addresses] == ["b@y.example"] and not read.defects
    plain, page, attached = (part for part in read.walk() if not part.is_multipart())
    shown = "".join(one if one.isprintable() else " " for one in text)
    assert [one for one in shown.split() if one.isalnum() and one.isascii()] == [
        one
        for one in "".join(
            o if o.isprintable() else " " for o in re.sub(r"\\\\x[0-9a-f]+", " ", plain.get_content())
        ).split()
        if one.isalnum() and one.isascii()
    ] or "\\x" in plain.get_content()
    assert "<script" not in page.get_content().lower() and attached.get_payload(decode=True) == b"1,2"
    for bad in ("no address", "a@b@c", "a@x.example\nBcc: z@z.example", ""):
        with pytest.raises(FormatError):
            make_mail("a@x.example", ("n", bad), "s", "t", moment, ["k"])


class Sink:
    """Takes mails, or answers otherwise for some receivers."""

    def __init__(self) -> None:
        self.mails: list[tuple[str, bytes]] = []
        self.answers: dict[str, str] = {}
        self.slow = 0.0

    async def handle_RCPT(self, server, session, envelope: Envelope, address: str, options: list[str]) -> str:
        if address in self.answers:
            return self.answers[address]
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope: Envelope) -> str:
        import asyncio

        await asyncio.sleep(self.slow)
        self.mails.append((envelope.rcpt_tos[0], envelope.content))
        return "250 taken"


@contextmanager
def mail_server(sink: Sink) -> Iterator[int]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        control = Controller(sink, hostname="127.0.0.1", port=port)
        control.start()
        try:
            yield port
        finally:
            control.stop()


def office_with_mail(demo: Path, tmp_path: Path, port: int) -> Path:
    import shutil

    folder = tmp_path / "office"
    shutil.copytree(demo, folder)
    plan = (folder / "office.yaml").read_text()
    (folder / "office.yaml").write_text(
        plan.replace("{server: mail.pellowmere.example,", f"{{server: 127.0.0.1, port: {port},")
    )
    return folder


def test_a_server_that_speaks_tls_from_the_first_byte_is_told_too(
    demo: Path, tmp_path: Path, run, monkeypatch
) -> None:
    """RFC 8314 section 3: and only where its certificate holds."""
    ldap.make_certificate(tmp_path)
    named = str(tmp_path / "cert.pem"), str(tmp_path / "key.pem")
    sink = Sink()
    with (
        mail_server(sink) as port,
        relay.between(("127.0.0.1", port), lambda data: data, certificate=named) as safe,
    ):
        office = office_with_mail(demo, tmp_path, safe)
        send = ["notices", "--send", "--office", office, "--today", "2026-11-23"]
        plan = (office / "office.yaml").read_text()
        (office / "office.yaml").write_text(plan.replace(f"port: {safe},", f"port: {safe}, tls: at once,"))
        told = run(*send, status=2).stderr
        assert "TLS with the mail server failed" in told and "self-signed" in told and told.count("\n") == 1
        (office / "office.yaml").write_text(plan.replace(f"port: {safe},", f"port: {port}, tls: at once,"))
        assert "TLS with the mail server failed" in run(*send, status=2).stderr and not sink.mails
        (office / "office.yaml").write_text(plan.replace(f"port: {safe},", f"port: {safe}, tls: at once,"))
        monkeypatch.setenv("SSL_CERT_FILE", named[0])
        run(*send, status=None)
    assert sink.mails


def test_each_is_told_once_and_again_only_after_it_had_ended(demo: Path, tmp_path: Path, run) -> None:
    sink = Sink()
    sink.answers = {
        "hale@pellowmere.example": "550 no such mailbox",
        "frost@pellowmere.example": "451 come again later",
    }
    with mail_server(sink) as port:
        where = office_with_mail(demo, tmp_path, port)
        asked = ("--office", where, "--today", MONDAY)
        shown = run("notices", *asked, status=1).stdout
        assert "Nothing was sent" in shown and not sink.mails
        due = notices.ask(open_office(where, today=MONDAY)).due
        told = run("notices", "--send", *asked, status=None).stdout
        assert "550 no such mailbox" in told and "451 come again later" in told
        refused = sum(one.person == "hale" for one in due)
        assert len(sink.mails) == len(due) - refused - 1 and refused >= 2
        for _, content in sink.mails:
            read = email.message_from_bytes(content, policy=email.policy.default)
            assert read["From"] == "ledger@pellowmere.example" and read.get_body(("plain",)).get_content().startswith(
                "Good day"
            )
        again = notices.ask(open_office(where, today=MONDAY))
        assert [one.person for one in again.due] == ["frost"] and {one.state.event.value for one in again.told} == {
            "sent",
            "refused",
        }
        sink.answers.clear()
        run("notices", "--send", *asked)
        assert sink.mails[-1][0] == "frost@pellowmere.example"
        before = len(sink.mails)
        assert "Nothing was due" in run("notices", "--send", *asked).stdout and len(sink.mails) == before
        run("notices", "--send", "--again", *asked)
        assert len(sink.mails) == before + refused
        # A limit that is no longer reached ends; reached once more it is told once more.
        plan = (where / "office.yaml").read_text()
        (where / "office.yaml").write_text(plan.replace("- {about: limit}", "# - {about: limit}"))
        run("notices", "--send", *asked)
        (where / "office.yaml").write_text(plan)
        people = {one.person for one in notices.ask(open_office(where, today=MONDAY)).due}
        assert people == {one.person for one in due if one.about.value == "limit"}
        # A week later the brief is a new one, and what was told is not told again.
        later = notices.ask(open_office(where, today=date(2026, 11, 30)))
        assert {one.about.value for one in later.due} >= {"brief"} and "finding" not in {
            one.about.value for one in later.due
        }


def test_bad_servers_and_templates_leave_nothing_half_done(demo: Path, tmp_path: Path, run) -> None:
    with mail_server(Sink()) as port:
        pass
    where = office_with_mail(demo, tmp_path, port)
    asked = ("--office", where, "--today", MONDAY)
    assert "out of reach" in run("notices", "--send", *asked, status=2).stderr
    assert not open_office(where, today=MONDAY).ledger.notices.standing()
    (where / "templates").mkdir()
    for text, said in (
        ("no subject", "without a subject"), ("Subject: x\n\n{{ nobody }}", "nobody"), ("Subject: x\n\n{% if %}", "fault"),
        ("Subject: x\n\n{{ ().__class__.__base__.__subclasses__() }}", "fault"), ("Subject: x\n\n{{ 1 / 0 }}", "fault"),
    ):  # fmt: skip
        (where / "templates" / "limit.txt").write_text(text)
        wrong = run("notices", "--send", *asked, status=2).stderr
        assert said in wrong and "limit.txt" in wrong and wrong.count("\n") == 1
    (where / "templates" / "limit.txt").write_text("Subject: own {{ office }}\nX\n\nown text for {{ name }}")
    assert "without a subject" in run("notices", "--check", *asked, status=2).stderr
    (where / "templates" / "limit.txt").write_text("Subject: own {{ office }}\n\nown text for {{ name }}")
    mails = tmp_path / "mails"
    run("notices", "--send-to", mails, *asked)
    (mine,) = [one for one in mails.iterdir() if "limit kestrel" in one.name]
    assert b"own text for Zoe Kestrel" in mine.read_bytes() and set(LETTERS) >= {"welcome"}
    assert Letters(where / "templates").fill("limit", {"office": "O", "name": "N"})[0] == "own O"


def test_off_this_machine_there_must_be_tls(monkeypatch: pytest.MonkeyPatch) -> None:
    from neatledger.faces import mail

    with mail_server(Sink()) as port:
        server = MailServer("127.0.0.1", port, "a@x.example")
        with signed_in(server, lambda _user, _host: None) as postman:
            message = make_mail("a@x.example", ("B", "b@y.example"), "s", "t", datetime.now(UTC), ["k"])
            assert postman.send(message, "b@y.example") == (Handed.SENT, "")
        monkeypatch.setattr(mail, "_is_here", lambda _connection: False)
        with pytest.raises(SourceError, match="no TLS"), signed_in(server, lambda _user, _host: None):
            pass


def begin(words: list[str]) -> int:
    """Run the command in a process of its own, that begins at once; return its number."""
    with warnings.catch_warnings():
        # The mail server here runs in a thread, which does nothing now.
        warnings.simplefilter("ignore", DeprecationWarning)
        child = os.fork()
    if child == 0:
        try:
            for number in (1, 2):
                os.dup2(os.open(os.devnull, os.O_WRONLY), number)
            os._exit(cli.main(words))
        except BaseException:
            os._exit(2)
    return child


@pytest.mark.seeds(1)
def test_killed_while_sending_nobody_is_told_twice(
    seed: int, demo: Path, tmp_path: Path, pytestconfig, start
) -> None:
    """Every kill leaves what was sent told, at most one mail of which nobody knows, and the rest due."""
    rng, sink = random.Random(seed), Sink()
    sink.slow = 0.02
    kills = pytestconfig.getoption("--kills") or 3
    with mail_server(sink) as port:
        where = office_with_mail(demo, tmp_path, port)
        words = ["notices", "--send", "--quiet", "--office", str(where), "--today", str(MONDAY)]
        whole = len(notices.ask(open_office(where, today=MONDAY)).due)
        landed = 0
        ledger = (where / "ledger.db").read_bytes()
        for _ in range(kills * 20):
            (where / "ledger.db").write_bytes(ledger)
            sink.mails.clear()
            for _ in range(3):
                child = begin(words)
                before, until = len(sink.mails), time.monotonic() + rng.random() * 2
                while len(sink.mails) == before and time.monotonic() < until:
                    time.sleep(0.005)
                time.sleep(rng.random() * 0.1)
                os.kill(child, signal.SIGKILL)
                landed += os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) < 0 and 0 < len(sink.mails) < whole
            time.sleep(0.1)
            standing = notices.ask(open_office(where, today=MONDAY))
            unknown = [one for one in standing.told if one.state.event.value == "begun"]
            told = Counter(
                (address, email.message_from_bytes(content)["Message-ID"]) for address, content in sink.mails
            )
            assert set(told.values()) <= {1} and len(unknown) <= 3
            assert len(told) + len(standing.due) + len(unknown) >= whole >= len(told) + len(standing.due)
            if landed >= kills:
                break
        assert landed >= kills
