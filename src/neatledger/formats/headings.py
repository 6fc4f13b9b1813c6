"""Tables exported elsewhere: which of their columns is which of ours, by what it is called and by what stands in it.

A heading speaks first: of every column of ours there is a list of plain words that exports use for it. What stands
below speaks too: a column of days is no login, and one in which hardly any cell is an address is no address. Where
both agree it is sure; where one of them is silent it is likely; else it is left to a person.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher

__all__ = ["ColumnGuess", "TableGuess", "guess_table", "read_text"]

_SEPARATORS = ",;\t|"
_ENOUGH_ROWS = 2_000
_SURE, _LIKELY, _ALIKE = 0.8, 0.55, 0.84
_MOST_WORDS, _MOST_LETTERS = 12, 100


@dataclass(frozen=True, slots=True)
class ColumnGuess:
    """One column of theirs and the one of ours that it is taken for, with examples, and 0 to 1 how sure that is.

    `values` are their words → ours, `dates` the form of its days; `doubt` is what a person should look at.
    """

    heading: str
    ours: str
    examples: tuple[str, ...]
    likeness: float
    values: Mapping[str, str] = field(default_factory=dict)
    dates: str = ""
    doubt: str = ""

    @property
    def how_sure(self) -> str:
        """How sure it is, in a word."""
        return "not read" if not self.ours else "sure" if self.likeness >= _SURE and not self.doubt else "likely"


@dataclass(frozen=True, slots=True)
class TableGuess:
    """What a file is: which table of ours, its columns, and how it is written."""

    table: str
    columns: tuple[ColumnGuess, ...]
    encoding: str
    separator: str
    rows: int
    lacking: tuple[str, ...] = ()

    @property
    def mapping(self) -> dict[str, object]:
        """The columns as a plan maps them: ours → theirs, where they are not called as ours."""
        found: dict[str, object] = {}
        for one in self.columns:
            if not one.ours:
                continue
            if one.values or one.dates:
                told: dict[str, object] = {"heading": one.heading}
                if one.dates:
                    told["dates"] = one.dates
                if one.values:
                    told["values"] = dict(one.values)
                found[one.ours] = told
            elif one.heading != one.ours:
                found[one.ours] = one.heading
        return found


def read_text(raw: bytes) -> tuple[str, str]:
    """Return the text of a file and its encoding: what a mark or the bytes themselves tell (RFC 3629, RFC 2781)."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16", "replace"), "utf-16"
    try:
        return raw.decode("utf-8-sig"), "ascii" if raw.isascii() else "utf-8"
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace"), "cp1252"


# Ours by table: what else exports call it, and what stands in it; the needed ones first.
_Column = tuple[str, str]
_TABLES: dict[str, tuple[tuple[str, ...], dict[str, _Column]]] = {
    "people": (("login", "id"), {
        "login": ("login,user,username,user name,account,account name,logon,logon name,sign in name,userid", "word"),
        "id": ("id,uid,uid number,sid,security identifier,object id,user id,number,identifier", "ident"),
        "name": ("name,full name,display name,real name,person,fullname", "text"),
        "email": ("email,mail,e mail,email address,mail address,e mail address", "email"),
        "primary": ("primary,primary group,gid,main group", "any"),
        "state": ("state,status,account status,enabled,active,disabled,account state,locked", "state"),
        "service": ("service,service on,may use", "yes"),
        "last-seen": ("last seen,last login,last logon,last sign in,last active,last access,last used", "day"),
    }),
    "groups": (("name", "id"), {
        "name": ("name,group,group name,groupname,team,team name,department", "text"),
        "id": ("id,gid,gid number,sid,group id,team id,group number,security identifier,object id", "ident"),
    }),
    "members": (("group", "member"), {
        "group": ("group,group name,groupname,team,parent", "text"),
        "member": ("member,user,login,username,account,member name,member login,user name", "word"),
        "kind": ("kind,type,member type", "kind"),
    }),
    "entries": (("path", "type"), {
        "path": ("path,full path,folder,folder path,location,file,file path,item,directory", "path"),
        "type": ("type,kind,item type,object type,entry type", "type"),
        "owner": ("owner,owner name,owned by,uid,user", "any"),
        "group": ("group,owning group,group name,gid", "any"),
        "mode": ("mode,unix mode,permission bits,permissions,octal", "mode"),
        "list": ("list,acl,access list,sddl,security descriptor,descriptor,access control list,entries,permissions",
                 "list"),
        "default": ("default,default acl,default list", "list"),
        "bytes": ("bytes,size,size in bytes,length,file size", "number"),
        "occupied": ("occupied,size on disk,allocated,disk usage,blocks", "number"),
        "changed": ("changed,modified,mtime,last modified,unix time", "epoch"),
        "identity": ("identity,inode,file id", "number"),
        "links": ("links,link count,hard links", "number"),
    }),
    "shares": (("name", "path"), {
        "name": ("name,share,share name", "text"),
        "path": ("path,folder,location,folder in it", "path"),
        "list": ("list,sddl,permission,permissions,share permission,security descriptor", "list"),
        "read-only": ("read only,readonly,write protected", "yes"),
        "place": ("place,server path,local path", "any"),
    }),
    "limits": (("on", "name", "limit"), {
        "on": ("on,applies to,type,kind,quota type,target type", "limited"),
        "name": ("name,target,path,folder,user,place,quota path,account", "any"),
        "limit": ("limit,quota,hard limit,size limit,limit bytes,maximum,allowed", "size"),
        "rule": ("rule,enforcement,hard or soft,quota kind,limit type,type,kind", "rule"),
        "grace-days": ("grace days,grace,grace period", "number"),
        "warn": ("warn,warning,warn at,threshold,warning level", "any"),
        "used": ("used,usage,used bytes,in use,current usage", "size"),
    }),
    "links": (("path", "maker"), {
        "id": ("id,link id,share id,identifier", "any"),
        "path": ("path,folder,file,item,location,target,shared item", "path"),
        "type": ("type,item type,kind", "type"),
        "maker": ("maker,created by,owner,user,shared by,creator,author", "word"),
        "level": ("level,permission,permissions,rights,access,role", "level"),
        "audience": ("audience,scope,who,visible to,shared with", "audience"),
        "made": ("made,created,created on,creation date,date created,since", "day"),
        "expires": ("expires,expiry,expiration,expiry date,expires on,valid until,end", "day"),
        "password": ("password,has password,password protected,protected", "yes"),
        "on": ("on,active,enabled,switched on", "yes"),
        "download": ("download,allow download,can download,downloads", "yes"),
        "uses": ("uses,views,opened,access count,hits", "number"),
        "last-used": ("last used,last access,last opened,last accessed", "day"),
    }),
}  # fmt: skip

_WORDS: dict[str, dict[str, str]] = {
    "state": {
        **dict.fromkeys(("open", "active", "enabled", "yes", "true", "1", "on", "ok", "valid", "normal"), "open"),
        **dict.fromkeys(("disabled", "inactive", "no", "false", "0", "off", "blocked", "suspended"), "disabled"),
        **dict.fromkeys(("locked", "closed", "deactivated", "archived"), "disabled"),
        **dict.fromkeys(("expired", "ended", "lapsed"), "expired"),
    },
    "yes": {**dict.fromkeys(("yes", "true", "1", "on", "y", "x"), "yes"),
            **dict.fromkeys(("no", "false", "0", "off", "n", "-"), "no")},
    "kind": {**dict.fromkeys(("person", "user", "account", "u"), "person"),
             **dict.fromkeys(("group", "team", "g"), "group")},
    "type": {**dict.fromkeys(("folder", "directory", "dir", "d", "collection"), "folder"),
             **dict.fromkeys(("file", "f", "document", "-"), "file"),
             **dict.fromkeys(("link", "symlink", "symbolic link", "l"), "link"), "other": "other"},
    "limited": {**dict.fromkeys(("folder", "directory", "path", "tree"), "folder"),
                **dict.fromkeys(("person", "user", "account", "owner"), "person"),
                **dict.fromkeys(("group", "team"), "group"), **dict.fromkeys(("pool", "volume", "disk"), "pool")},
    "rule": {**dict.fromkeys(("enforced", "hard", "strict"), "enforced"),
             **dict.fromkeys(("watched", "soft", "advisory", "warn only", "monitor"), "watched")},
    "level": {**dict.fromkeys(("read", "view only", "viewer", "can view", "reader", "read only"), "read"),
              **dict.fromkeys(("write", "edit", "editor", "can edit", "read write", "contributor"), "write"),
              **dict.fromkeys(("drop", "upload", "upload only", "file request", "add-only"), "add-only"),
              **dict.fromkeys(("manage", "owner", "full", "full control"), "manage"), "list": "list", "view": "view"},
    "audience": {**dict.fromkeys(("anyone", "public", "anonymous", "everyone", "open"), "anyone"),
                 **dict.fromkeys(("office", "organisation", "organization", "internal", "company"), "office"),
                 **dict.fromkeys(("guests", "guest", "external"), "guests"),
                 **dict.fromkeys(("named", "specific", "specific people", "invited", "restricted"), "named")},
}  # fmt: skip
_FITS = {
    "word": re.compile(r"^[^\s:/\\,;]{1,64}$|^[^\\]+\\[^\\]+$"),
    "ident": re.compile(r"^(\d+|S-1-[\d-]+|[0-9A-Fa-f]{8}-[0-9A-Fa-f-]{27}|[\w.@-]{1,64})$"),
    "email": re.compile(r"^[^@\s]+@[^@\s]+$"),
    "path": re.compile(r"^(/|\\|[A-Za-z]:[\\/])"),
    "mode": re.compile(r"^0?[0-7]{3,4}$"),
    "list": re.compile(r"^(O:|G:|D:|user:|u:|[AD]:[fdinSFgI]*:|owner=|everyone=|nobody$)|(::?[r-][w-][x-])"),
    "number": re.compile(r"^\d+$"),
    "epoch": re.compile(r"^\d{8,11}$"),
    "size": re.compile(r"^(\d+(\.\d+)?( ?[kKMGTPE]?i?B)?|no limit)$"),
    "text": re.compile(r"\S"),
    "any": re.compile(r""),
}
_STRICT = ("email", "path", "mode", "list", "number", "epoch", "size", "day")
_DAY = re.compile(r"^(\d{1,4})([./-])(\d{1,2})\2(\d{1,4})(?=$|[ T])")


Said = Mapping[str, Mapping[str, str]]
"""Table → our column → their heading, as somebody said it."""


def guess_table(raw: bytes, said: Said | None = None) -> TableGuess | None:
    """Return what a file of columns is, as far as somebody said it so; None where it fits no table."""
    text, encoding = read_text(raw)
    head = text.partition("\n")[0]
    separator = max(_SEPARATORS, key=head.count)
    rows = []
    try:
        for row in csv.reader(io.StringIO(text, newline=""), delimiter=separator):
            rows.append(row)
            if len(rows) > _ENOUGH_ROWS:
                break
    except csv.Error:
        return None
    if not rows or len(rows[0]) < 2:
        return None
    headings = [one.strip() for one in rows[0]]
    cells = [[row[n].strip() if n < len(row) else "" for row in rows[1:]] for n in range(len(headings))]
    guesses = []
    for name in _TABLES:
        columns = _assign(name, headings, cells, (said or {}).get(name, {}))
        needed = _TABLES[name][0]
        taken = {one.ours: one.likeness for one in columns if one.ours}
        lacking = tuple(one for one in needed if one not in taken)
        total = sum(taken.values()) + sum(taken.get(one, -1.5) for one in needed)
        guesses.append((total, TableGuess(name, columns, encoding, separator, text.count("\n"), lacking)))
    best = max(guesses, key=lambda one: one[0])[1]
    return None if best.lacking else best


def _plain(heading: str) -> str:
    """Return a heading as plain words in small letters."""
    # A line of prose that stands where headings belong is none, and comparing it would take its time.
    parted = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", heading[:_MOST_LETTERS])
    return " ".join(re.findall(r"[^\W_]+", parted.casefold()))


def _assign(
    table: str, headings: Sequence[str], cells: Sequence[Sequence[str]], said: Mapping[str, str]
) -> tuple[ColumnGuess, ...]:
    """Give each column of ours to the heading that it is likeliest to be, the surest first."""
    scores = []
    for number, heading in enumerate(headings):
        for ours, (words, kind) in _TABLES[table][1].items():
            if ours in said:
                # Nothing else is meant by it, whatever stands there.
                scores += [(2.0, 0, number, ours, kind)] if heading == said[ours] else []
                continue
            called = _likeness(_plain(heading), ours, words.split(","))
            fits = _fit(kind, cells[number])
            if called > 0 and not (kind in _STRICT and fits is not None and fits < 0.5):
                score = 0.7 * called + 0.3 * (0.5 if fits is None else fits)
                scores.append((score, -list(_TABLES[table][1]).index(ours), number, ours, kind))
    found: dict[int, ColumnGuess] = {}
    taken: set[str] = set()
    for score, _, number, ours, kind in sorted(scores, reverse=True):
        if number not in found and ours not in taken and score >= _LIKELY:
            taken.add(ours)
            found[number] = _column(headings[number], ours, kind, cells[number], score)
    return tuple(
        found.get(number) or ColumnGuess(heading, "", _examples(cells[number]), 0.0)
        for number, heading in enumerate(headings)
    )


def _likeness(heading: str, ours: str, words: Sequence[str]) -> float:
    names = [_plain(ours), *words]
    if heading in names:
        # What stands first in the list is the commonest.
        return 1.0 if heading == names[0] else 0.98 - 0.01 * min(names.index(heading), 20)
    best = max(SequenceMatcher(None, heading, one).ratio() for one in names)
    return best if best >= _ALIKE else 0.0


def _fit(kind: str, cells: Sequence[str]) -> float | None:
    """Return which part of the cells that say anything fits a kind of column; None where none says anything."""
    said = [one for one in cells if one]
    if not said:
        return None
    if kind in _WORDS:
        known = _WORDS[kind]
        return sum(one.casefold() in known for one in said) / len(said)
    if kind == "day":
        form, _ = _form_of_days(said)
        usual = sum(_DAY.match(one) is not None for one in said) / len(said)
        return usual if form else 0.0
    return sum(_FITS[kind].search(one) is not None for one in said) / len(said)


def _examples(cells: Sequence[str]) -> tuple[str, ...]:
    """Return a few things that stand in a column; never what may be the address of a link."""
    found = ["(an address)" if "://" in one else one[:40] for one in dict.fromkeys(cells) if one]
    return tuple(dict.fromkeys(found))[:3]


def _column(heading: str, ours: str, kind: str, cells: Sequence[str], score: float) -> ColumnGuess:
    values: dict[str, str] = {}
    dates = doubt = ""
    said = [one for one in cells if one]
    if kind in _WORDS:
        is_turned = kind == "state" and _plain(heading).split()[-1:] in (["disabled"], ["locked"], ["blocked"])
        values, strange = _words_of(kind, said, is_turned)
        if strange:
            doubt = f"what is meant by {', '.join(strange[:4])}? Unknown until values says it"
    elif kind == "day":
        dates, doubt = _form_of_days(said)
        if dates == "YYYY-MM-DD" and all(len(one) == 10 for one in said):
            dates = ""
        never = [one for one, _ in Counter(one for one in said if not _DAY.match(one)).most_common(3)]
        values = dict.fromkeys((one for one in never if re.fullmatch(r"[^\W\d]+|-+|n/a", one, re.IGNORECASE)), "")
        if values and not dates:
            dates = "YYYY-MM-DD"
    return ColumnGuess(heading, ours, _examples(cells), min(score, 1.0), values, dates, doubt)


def _words_of(kind: str, said: Sequence[str], is_turned: bool) -> tuple[dict[str, str], list[str]]:
    """Return their words → ours where any of them is not ours already, and those that nobody knows."""
    known = _WORDS[kind]
    counted = Counter(said)
    found: dict[str, str] = {}
    strange = []
    for word in counted:
        ours = known.get(word.casefold())
        if ours is None:
            strange.append(word)
            continue
        if is_turned:
            # Under «disabled» a yes closes the account.
            ours = {"open": "disabled", "disabled": "open"}.get(ours, ours)
        found[word] = ours
    if all(word == ours for word, ours in found.items()) and not strange:
        return {}, []
    return found, strange[:_MOST_WORDS]


def _form_of_days(said: Sequence[str]) -> tuple[str, str]:
    """Return the form of most of the days in a column, and the doubt where day and month may be either."""
    found = [match for one in said if (match := _DAY.match(one))]
    if not found:
        return "", ""
    first, sign, second, third = (
        [one[1] for one in found], Counter(one[2] for one in found).most_common(1)[0][0], [one[3] for one in found],
        [one[4] for one in found],
    )  # fmt: skip
    if all(len(one) == 4 for one in first):
        return sign.join(("YYYY", "MM", "DD")), ""
    year = "YYYY" if all(len(one) == 4 for one in third) else "YY"
    if any(int(one) > 12 for one in first):
        return sign.join(("DD", "MM", year)), ""
    if any(int(one) > 12 for one in second):
        return sign.join(("MM", "DD", year)), ""
    form = sign.join(("DD", "MM", year))
    # Dots are set between day and month wherever people write them.
    return form, "" if sign == "." else f"day or month first? No day is beyond 12: taken as {form}"
