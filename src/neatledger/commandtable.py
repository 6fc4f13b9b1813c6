"""The commands as a table: what each does, examples, a map; and what names and options of before are now."""

from __future__ import annotations

from textwrap import fill

__all__ = ["COMMANDS", "EXAMPLES", "MAP", "OLD_NAMES", "OLD_OPTIONS", "WIDTH", "list_of_commands"]

WIDTH = 80
"""Columns of every help text."""
# Name → what it does, in the order of the work; the module is neatledger.commands.NAME.
COMMANDS: dict[str, str] = {
    "brief": "what needs you today, on one screen",
    "check": "what is wrong, most serious first; N explains one and how to end it",
    "who": "who can reach a folder, and through what",
    "reach": "what a person can reach; beside somebody else (--compare); whose account could harm the most (--most)",
    "why": "why a person can, or cannot, reach a folder; what would let them in",
    "folders": "folders with owners and lists; what a new file gets (--new-item)",
    "suppose": "what a change would do, before it is made",
    "how": "the fewest changes that give people just a level on a folder",
    "review": "owners confirm who keeps what access, signed",
    "plan": "faults of the plan; what it says of a person or folder, by line",
    "draft": "a first plan from what was found, with the questions that are yours",
    "mend": "steps that make the systems match the plan, in safe order; made when asked, taken back",
    "people": "people, accounts, guests (--guests); one person's sheet; whose an account is (--match)",
    "groups": "groups and their members; fewer would do (--suggest)",
    "join": "somebody starts: logins, home, what they will reach, the steps",
    "move": "somebody changes posts: what goes, what comes, and on which day",
    "leave": "somebody leaves: what they leave, and who takes over",
    "links": "links and hand-outs: what they open, for whom, until when, and which rule they break",
    "devices": "devices and the copies on them; what one would hold (--would-hold)",
    "expiring": "everything that ends, by date; as a calendar too (-o FILE.ics)",
    "space": "used and left, what to free first; when it is full (--forecast); by type, owner, version (--by)",
    "limits": "limits that many places share, with exceptions; change one",
    "trail": "actions: who did what, when and from where; what is unusual (--unusual)",
    "changes": "what changed in access, people and space between two counts",
    "unused": "rights that nobody used, and what would be missed without them",
    "count": "look at the systems again, and keep a dated count",
    "ledger": "the counts so far: list, verify, move, import, remove",
    "protect": "whether everything would come back: what would be lost, how far back it goes",
    "report": "pages and workbooks for owners and insurers",
    "notices": "mails to people: full homes, expiring links, reviews",
    "demo": "make the sample office and try it",
    "connect": "add a system, or start an office with its systems; try them (--test)",
    "help": "commands, options and words; completion for shells, the manual page",
}
OLD_NAMES: dict[str, str] = {
    "gather": "count",
    "counts": "ledger",
    "new": "connect NAME=ADDRESS",
    "access": "reach (nobody named: everybody)",
    "compare": "reach PERSON --compare PERSON; at two dates: changes PERSON --since DATE",
    "history": "changes PERSON FOLDER",
    "most": "reach --most change",
    "guests": "people --guests",
    "match": "people --match",
    "inherit": "folders FOLDER --new-item; pushed down: suppose --push FOLDER",
    "room": "space FOLDER PERSON",
    "kinds": "space --by kind (--only not-allowed)",
    "versions": "space --by version; another number: suppose --versions SYSTEM=N",
    "forecast": "space --forecast",
    "bands": "limits",
    "synced": "devices PERSON --would-hold",
    "lapses": "expiring",
    "want": "how FOLDER WHO=LEVEL",
    "accept": "check N --accept WHY",
    "completion": "help --completion SHELL",
    "manual": "help --manual",
}
"""A command of before → what it is now."""
OLD_OPTIONS: dict[str, str] = {
    "--odd": "--unusual",
    "--room": "--space-left",
    "--did": "--only",
    "--from": "--address (trail), --start (join, move)",
    "--of": "the person without an option",
    "--below": "the folder without an option",
    "--person": "the person without an option",
    "--system": "the system without an option",
    "--cause": "the number without an option",
    "--what": "--only",
    "--about": "--only",
    "--calendar": "-o FILE.ics",
    "--figure": "-o FILE.png",
    "--paper": "-o FILE.html",
    "--also": "-o, once more",
    "--against": "--since",
    "--days": "--idle",
    "--every": "--level any, or --depth all",
    "--insist": "--allow, or --yes",
    "--keep": "--steps, or --versions",
    "--into": "--member, or --backup",
    "--out-of": "--no-member",
    "--withdraw": "--revoke",
    "--gone": "--delete",
    "--list": "--copy-list",
    "--give": "--owning-group",
    "--take-back": "--unshare",
    "--rule": "--sharing-rule",
    "--prove": "--verify",
    "--take": "--import",
    "--read": "count --logs",
    "--forget": "ledger --forget",
    "--texts": "--script",
    "--journal": "--log",
    "--barred": "--only not-allowed",
    "--lapse-within": "--within",
    "--amiss": "--only breaking",
    "--not-in-order": "--only breaking",
    "--over": "--opens",
    "--to": "--successor (leave), --post (move), --given-to (links), --export (count)",
    "--by": "--made-by (links)",
    "--then": "changes PERSON --since DATE",
    "--show": "the name without an option",
}
"""An option of before → what it is now, where a command has it no more."""
EXAMPLES: dict[str, tuple[str, ...]] = {
    "brief": ("brief", "brief -f json -o monday.json"),
    "check": ("check", "check 1", "check thistle barn", "check 17 --accept 'until the move' --until 2027-03-31"),
    "who": ("who barn:/Payroll", "who payroll -c +since"),
    "reach": ("reach thistle", "reach croft --compare quill", "reach --most change", "reach -o access.csv"),
    "why": ("why thistle barn:/Payroll", "why marsh barn:/Imaging/2026"),
    "folders": ("folders", "folders barn:/Records --depth 3", "folders barn:/Records --new-item"),
    "suppose": ("suppose --member payroll=thistle", "suppose --like thistle", "suppose --versions barn=4"),
    "how": ("how barn:/Payroll stone=write thistle=none", "how loft:/Scans nurses=write --steps steps.json"),
    "review": ("review", "review make stone -o packs", "review take 'packs/review stone 2026-11-23.xlsx'"),
    "plan": ("plan", "plan thistle", "plan barn:/Payroll"),
    "draft": ("draft", "draft --text", "draft --only people --write"),
    "mend": ("mend", "mend A", "mend barn:/Records", "mend --carry-out"),
    "people": ("people", "people thistle", "people --match --write"),
    "groups": ("groups", "groups --side both", "groups --suggest"),
    "join": ("join 'Hugo Larke' --post nurse --start 2026-12-07", "join teal --verify"),
    "move": (
        "move croft --post desk --start 2026-12-14",
        "move dove --post desk --overlap 2026-12-31 --write",
    ),
    "leave": (
        "leave hale --last-day 2026-12-31 --successor fenn",
        "leave frost --last-day 2026-12-31 --successor birch --write",
    ),
    "links": ("links --only breaking", "links meadow:/Teams"),
    "devices": ("devices", "devices hale --would-hold"),
    "expiring": ("expiring --within 2w", "expiring -o ends.ics"),
    "space": ("space", "space barn:/Imaging --by kind", "space barn:/Imaging quill", "space --forecast"),
    "limits": ("limits", "limits home --limit '600 kB'"),
    "trail": ("trail --unusual", "trail thistle --since 2026-11-01", "trail barn:/Records --only delete"),
    "changes": ("changes", "changes --since 2026-10-01", "changes thistle barn:/Payroll"),
    "unused": ("unused", "unused loft:/Surgery --idle 90d --try", "unused --only member --steps steps.json"),
    "count": ("count", "count barn --not-seen", "count --logs"),
    "ledger": ("ledger", "ledger --not-seen barn", "ledger --verify"),
    "protect": ("protect", "protect barn:/Records", "protect --split"),
    "report": ("report office -o office.html -o office.xlsx", "report access --since 2026-10-01 -o a.xlsx"),
    "notices": ("notices", "notices --send-to mails", "notices --send"),
    "demo": ("demo", "demo sample --no-tour"),
    "connect": ("connect barn=/srv/barn loft=smb://loft.office.example", "connect desk people.csv", "connect --test"),
    "help": ("help who", "help band", "help --completion bash >> ~/.bashrc", "help --manual | man -l -"),
}
"""At least two of each command."""
MAP = """\
look        brief           what needs you today, on one screen
            check [N]       what is wrong, most serious first; N explains one
ask         who FOLDER      who can reach it       reach PERSON  what they reach
            why PERSON FOLDER                      folders       owners, lists
decide      suppose  how    what a change would do; the fewest changes needed
            review          owners confirm who keeps what
change      plan  draft     mend: steps that put right what is wrong
people      people  groups  join  move  leave
share       links  devices  expiring
space       space  limits   what to free first; when it is full
afterwards  trail  changes  unused
keep        count  ledger   protect: would it come back
tell        report  notices                begin       demo  connect  help

neatledger help NAME    a command with examples, or what a word means
neatledger help --all   all commands, a line each

Nothing is changed without --write (the plan), --carry-out (the systems),
--send (mail) or --remove (the ledger)."""
"""The commands in the order of the work, on one screen; every command is in it."""


def list_of_commands() -> str:
    """Return every command with what it does."""
    width = max(map(len, COMMANDS))
    indent = " " * (width + 2)
    return "\n".join(
        fill(f"{name:<{width}}  {what}", WIDTH, subsequent_indent=indent) for name, what in COMMANDS.items()
    )
