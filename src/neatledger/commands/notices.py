"""``notices``: who is to be told what; written as mails, or handed to the office's mail server, each once."""

from __future__ import annotations

import argparse
from email.message import EmailMessage
from hashlib import sha256
from pathlib import Path

from neatledger.app import App
from neatledger.core.plan.notices import About
from neatledger.core.space.sizes import show_size
from neatledger.counting import count_of
from neatledger.errors import UsageError
from neatledger.faces.letters import Letters
from neatledger.faces.mail import Attachment, make_mail, signed_in
from neatledger.faces.show import show_report
from neatledger.faces.table import Layout, render_table
from neatledger.files import locked, write_file
from neatledger.ledger.notices import Event
from neatledger.questions import notices
from neatledger.questions.notices import Notice
from neatledger.reports.chain import head_words
from neatledger.reports.notices import notices_report

__all__ = ["add_arguments", "run"]

_MAIL_WIDTH = 76


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--send-to", metavar="DIR", help="write each mail as a file there; counted as sent")
    act.add_argument("--send", action="store_true", help="hand them to the mail server that the plan names")
    act.add_argument("--check", action="store_true", help="try the office's own templates")
    parser.add_argument("--again", action="store_true", help="also what was refused, or may not have arrived")
    words = [one.value for one in About]
    parser.add_argument(
        "--only",
        dest="about",
        action="append",
        default=[],
        choices=words,
        metavar="KIND",
        help=f"only {', '.join(words)}",
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Show them, write them, or send them."""
    office = app.office
    letters = Letters(office.folder / office.plan.notices.templates)
    letters.check()
    if args.check:
        app.say("The templates have no faults.")
        return 0
    if not office.plan.notices.rules:
        raise UsageError("the plan says nobody who is told of anything", hint="notices: {tell: [{about: own home}]}")
    with app.progress("looking what is due"):
        found = notices.ask(office, again=args.again)
    if args.about:
        found.due = [one for one in found.due if one.about.value in args.about]
    notes: list[str] = []
    if args.send_to or args.send:
        # Written down also where nothing has ended: so it is known when this last ran.
        office.ledger.notices.add(Event.ENDED, found.ended, app.clock, {})
        notes += (
            _write(app, letters, found.due, Path(args.send_to)) if args.send_to else _send(app, letters, found.due)
        )
        found = notices.ask(office, again=args.again)
    else:
        notes.append("Nothing was sent; --send-to DIR makes files, --send hands them to the mail server.")
    show_report(notices_report(found.due, found.told, found.unreached, notes), app.output)
    return 1 if found.due or found.unreached else 0


def _mail_of(app: App, letters: Letters, one: Notice) -> EmailMessage:
    office = app.office
    server = office.plan.notices.mail
    sender = server.sender if server else f"ledger@{office.plan.domain or 'localhost'}"
    largest = tuple((path, show_size(size)) for path, size in one.largest)
    facts = {"office": office.plan.office, "name": one.name, "items": tuple(each.text for each in one.items),
             "largest": largest, "text": "", "day": f"{office.today}"}  # fmt: skip
    attachments = _attachments(app, one)
    if one.about is About.BRIEF:
        facts["text"] = _brief_text(app)
    subject, text = letters.fill(one.about.value, facts)
    return make_mail(sender, (one.name, one.address), subject, text, app.now, one.keys, attachments)


def _brief_text(app: App) -> str:
    from neatledger.questions import brief
    from neatledger.reports.brief import brief_report

    text = render_table(brief_report(brief.ask(app.office), app.office.today), Layout(_MAIL_WIDTH))
    head = app.office.ledger.chain.head()
    return text if head is None else f"{text}\n{head_words(head)}\n"


def _attachments(app: App, one: Notice) -> list[Attachment]:
    if one.about is About.REPORT:
        from neatledger.faces.page import render_page
        from neatledger.papers import office as paper
        from neatledger.reports.paper import sealed

        whole = sealed(paper.make(app.office), app.office.ledger.chain.head())
        page = render_page(whole).encode("utf-8", "backslashreplace")
        return [Attachment(f"office {app.office.today}.html", "text/html", page)]
    if one.about is About.OWN_HOME and one.largest:
        lines = ["path,bytes", *(f'"{path.replace(chr(34), chr(34) * 2)}",{size}' for path, size in one.largest)]
        return [Attachment("largest files.csv", "text/csv", ("\r\n".join(lines) + "\r\n").encode("utf-8"))]
    return []


def _facts(one: Notice, more: str = "") -> dict[str, str]:
    found = {"person": one.person, "address": one.address, "about": one.about.value}
    return found | ({"said": more} if more else {})


def _write(app: App, letters: Letters, due: list[Notice], folder: Path) -> list[str]:
    """Write each mail whole, and then that it was; one killed in between is written once more under the same name."""
    mails = [_mail_of(app, letters, one) for one in due]
    folder.mkdir(parents=True, exist_ok=True)
    with locked(app.office.folder):
        for one, mail in zip(due, mails, strict=True):
            digest = sha256("\n".join(one.keys).encode("utf-8", "surrogateescape")).hexdigest()[:12]
            write_file(folder / f"{app.office.today} {one.about.value} {one.person} {digest}.eml", mail.as_bytes())
            app.office.ledger.notices.add(Event.WRITTEN, one.keys, app.clock, _facts(one))
    return [f"{count_of(len(due), 'mail')} written into {folder}."]


def _send(app: App, letters: Letters, due: list[Notice]) -> list[str]:
    """Hand each mail over; of what was begun and not ended nobody knows, and it goes again only when asked for."""
    server = app.office.plan.notices.mail
    if server is None:
        raise UsageError("the plan names no mail server", hint="notices: {mail: {server: HOST, from: ADDRESS}}")
    # Templates and papers are made before anything is sent: a fault in one leaves nothing half done.
    mails = [_mail_of(app, letters, one) for one in due]
    log, counts, said = app.office.ledger.notices, dict.fromkeys(Event, 0), list[str]()
    if not due:
        return ["Nothing was due."]
    with locked(app.office.folder), signed_in(server, app.credentials_for("mail")) as postman:
        for one, mail in zip(due, mails, strict=True):
            log.add(Event.BEGUN, one.keys, app.clock, _facts(one))
            handed, words = postman.send(mail, one.address)
            event = Event(handed.value)
            log.add(event, one.keys, app.clock, _facts(one, words))
            counts[event] += 1
            said += [f"{one.person}, {one.about.value}: {event.value}: {words}"] if words else []
    parts = [f"{number} {event.value}" for event, number in counts.items() if number]
    return [f"{count_of(len(due), 'mail')}: {', '.join(parts)}.", *said]
