"""The part of office.yaml that says who is told of what, read into the plan."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from neatledger.core.plan.notices import ABOUT_PERSONS, About, MailServer, NoticeRule, Notices
from neatledger.formats.nearest import nearest
from neatledger.office.yamltext import Path as KeyPath

__all__ = ["DAYS", "read_notices"]

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_ADDRESS = re.compile(r"[^\s@<>]+@[^\s@<>]+")
_PORT = 587  # message submission, RFC 6409 section 3.1
_TLS_PORT = 465  # RFC 8314 section 7.3


def read_notices(
    value: Mapping[str, Any],
    fault: Callable[[KeyPath, str, str], None],
    line: Callable[[KeyPath], int],
    known: set[str],
) -> Notices:
    """Return the plan's notices from values that fit the schema, and find what a schema cannot."""
    one: Mapping[str, Any] = value.get("notices") or {}
    rules = []
    for place, rule in enumerate(one.get("tell") or ()):
        here: KeyPath = ("notices", "tell", place)
        about = About(rule["about"])
        who = tuple(rule.get("who") or ())
        for number, name in enumerate(who):
            if name not in known:
                expected = "a person or group of this plan, or a class of people"
                found = nearest(name, known)
                fault((*here, "who", number), repr(name), f"{' or '.join(found)}? {expected}" if found else expected)
        if not who and about not in ABOUT_PERSONS:
            fault(here, f"nobody who is told of {about.value}", "who: [PERSON]")
        checks = tuple(rule.get("checks") or ())
        if about is About.FINDING and not checks:
            fault(here, "no checks", "checks: [NAME], whose new findings are told")
        every = rule.get("every", "monday" if about is About.BRIEF else "month")
        rules.append(
            NoticeRule(
                about, who, tuple(sorted(rule.get("at") or (90, 97))), rule.get("within-days", 14), checks,
                None if every == "month" else DAYS.index(every), line(here),
            )
        )  # fmt: skip
    return Notices(tuple(rules), _mail(one.get("mail"), fault), one.get("templates", "templates"))


def _mail(one: Mapping[str, Any] | None, fault: Callable[[KeyPath, str, str], None]) -> MailServer | None:
    if not one:
        return None
    if not _ADDRESS.fullmatch(one["from"]):
        fault(("notices", "mail", "from"), repr(one["from"]), "an e-mail address")
    is_tls = one.get("tls") == "at once"
    port = one.get("port", _TLS_PORT if is_tls else _PORT)
    return MailServer(one["server"], port, one["from"], one.get("user", ""), is_tls)
