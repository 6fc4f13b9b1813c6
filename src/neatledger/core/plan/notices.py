"""Who is told of what: the plan's notices, and the server that they go through."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

__all__ = ["ABOUT_PERSONS", "About", "MailServer", "NoticeRule", "Notices"]


class About(Enum):
    """What a notice can be about, by the plan's word."""

    OWN_HOME = "own home"
    LIMIT = "limit"
    LINK = "link"
    REVIEW = "review"
    STARTER = "starter"
    LEAVER = "leaver"
    FINDING = "finding"
    BRIEF = "brief"
    REPORT = "report"


ABOUT_PERSONS = {
    About.OWN_HOME: "whose home it is",
    About.LIMIT: "whom the limit's warnings name",
    About.LINK: "who made it",
    About.REVIEW: "who decides there",
    About.STARTER: "whom the post names",
    About.LEAVER: "who takes over",
}
"""Who is told where a rule names nobody; what is not here needs somebody named."""


@dataclass(frozen=True, slots=True)
class MailServer:
    """The office's mail server: where it is, whom mail comes from, and who signs in there (empty: nobody).

    `is_tls` speaks TLS from the first byte (RFC 8314 section 3), else it begins once both agreed (STARTTLS).
    """

    host: str
    port: int
    sender: str
    user: str = ""
    is_tls: bool = False


@dataclass(frozen=True, slots=True)
class NoticeRule:
    """One rule: about what, to whom (empty: who is concerned), from how many percent, days ahead, and how often.

    `checks` are those whose findings are told; `every` is a day of the week (0 is Monday), or None for once a month.
    """

    about: About
    who: tuple[str, ...] = ()
    at: tuple[int, ...] = (90, 97)
    within_days: int = 14
    checks: tuple[str, ...] = ()
    every: int | None = 0
    line: int = 0


@dataclass(frozen=True, slots=True)
class Notices:
    """All rules, the mail server (None: there is none), and the folder of the office's own templates."""

    rules: tuple[NoticeRule, ...] = ()
    mail: MailServer | None = None
    templates: str = "templates"
