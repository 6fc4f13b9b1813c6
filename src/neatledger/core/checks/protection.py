"""Protection: what would not come back, what is taken for a backup and is none, keys that one person holds."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from statistics import median

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.plan.protection import BackupRule, SystemProtection, show_duration
from neatledger.core.protection.found import FoundProtection, Run
from neatledger.core.tree.address import Address, lies_within

__all__ = ["CHECKS"]

_LATE = 2  # times what the plan says of a rhythm
_SHRUNK = 0.5
_FEW_RUNS = 3
_TRIED_DAYS = 365


def _no_protection(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        if not one.standing.wanted.is_nothing and not one.standing.points:
            evidence = "; ".join([*one.standing.faults, *one.standing.unknown])
            yield Finding("no-protection", one.address, evidence)


def _weaker(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        if one.standing.points and one.standing.faults:
            yield Finding("weaker-protection", one.address, "; ".join(one.standing.faults))


def _homes_left_out(office: OfficeFacts) -> Iterator[Finding]:
    for name, system in office.plan.protection.systems.items():
        planned = office.plan.systems.get(name)
        for home in planned.homes if planned is not None and system.backups else ():
            if not any(one.holds(home) for one in system.backups):
                names = ", ".join(one.name for one in system.backups)
                yield Finding("homes-not-in-backup", Address(name, home), f"no backup has them ({names})")


def _synced_only(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        if one.standing.is_synced and not one.standing.points:
            yield Finding(
                "synced-is-no-backup", one.address, "it is only copied as it changes: what is lost is lost there"
            )


def _same_disk(office: OfficeFacts) -> Iterator[Finding]:
    for name, system in office.plan.protection.systems.items():
        for backup in system.backups:
            if backup.disk and backup.disk == system.disk:
                yield Finding("copy-on-same-disk", f"{name}: {backup.name}", f"both lie on {backup.disk}")


def _late(office: OfficeFacts) -> Iterator[Finding]:
    for name, backup, runs in _backups(office):
        done = [one for one in runs if one.is_done]
        if backup.every is None:
            continue
        last = max((one.moment for one in done), default=None)
        if last is None:
            yield Finding("backup-late", f"{name}: {backup.name}", "no run of it is known to have come to its end")
        elif office.protection.now - last > _LATE * backup.every:
            ago = show_duration(office.protection.now - last)
            evidence = (
                f"the last that came to its end was {ago} ago, and it is to run every {show_duration(backup.every)}"
            )
            yield Finding("backup-late", f"{name}: {backup.name}", evidence)


def _shrunk(office: OfficeFacts) -> Iterator[Finding]:
    for name, backup, runs in _backups(office):
        done = sorted((one for one in runs if one.is_done), key=lambda one: one.moment)
        sizes = [one.bytes for one in done if one.bytes is not None]
        if len(sizes) > _FEW_RUNS and sizes[-1] < _SHRUNK * median(sizes[:-1]):
            evidence = f"the last run holds {sizes[-1]:,} bytes, those before {int(median(sizes[:-1])):,}"
            yield Finding("backup-shrunk", f"{name}: {backup.name}", evidence)


def _never_tried(office: OfficeFacts) -> Iterator[Finding]:
    for name, backup, _ in _backups(office):
        if backup.tried is None:
            yield Finding("backup-never-tried", f"{name}: {backup.name}", "nothing was ever brought back from it")
        elif (office.today - backup.tried).days > _TRIED_DAYS:
            evidence = f"something was last brought back from it on {backup.tried}"
            yield Finding("backup-never-tried", f"{name}: {backup.name}", evidence)


def _backups(office: OfficeFacts) -> Iterator[tuple[str, BackupRule, list[Run]]]:
    for name, system in office.plan.protection.systems.items():
        found = office.protection.found.get(name, FoundProtection())
        for backup in system.backups:
            yield name, backup, [one for one in found.runs if one.backup == backup.name]


def _copies_in_reach(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        ordinary = [person for person in one.destroyers if person not in office.protection.administrators]
        if ordinary and one.standing.points and not one.unreached:
            evidence = f"{', '.join(ordinary)} can alter the folder and every copy of it"
            yield Finding("copies-in-reach", one.address, evidence, people=tuple(ordinary))


def _key_of_nobody(office: OfficeFacts) -> Iterator[Finding]:
    return (one for one in _keys(office) if one.check == "key-of-nobody")


def _key_of_one(office: OfficeFacts) -> Iterator[Finding]:
    return (one for one in _keys(office) if one.check == "key-of-one")


def _keys(office: OfficeFacts) -> Iterator[Finding]:
    for name, system in office.plan.protection.systems.items():
        for one in system.encrypted:
            holders = [person for person in one.holders if office.plan.is_here(person)]
            place = Address(name, one.path)
            if not holders:
                gone = f": {', '.join(one.holders)} has left" if one.holders else ""
                yield Finding("key-of-nobody", place, f"nobody is said to hold its key{gone}")
            elif len(holders) == 1:
                yield Finding("key-of-one", place, f"{holders[0]} alone holds its key", people=(holders[0],))


def _not_encrypted(office: OfficeFacts) -> Iterator[Finding]:
    for name, system in office.plan.protection.systems.items():
        found = office.protection.found.get(name, FoundProtection())
        for one in system.encrypted:
            if found.encrypted.get(one.path) is False:
                yield Finding(
                    "device-not-encrypted", Address(name, one.path), "the device that it lies on is not encrypted"
                )


def _keeps_less(office: OfficeFacts) -> Iterator[Finding]:
    for system, less in office.protection.less.items():
        yield Finding("keeps-less-than-plan", system, "; ".join(less))


def _cannot_restore(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        if one.standing.points and one.standing.doubts:
            yield Finding("bringing-back-not-known", one.address, "; ".join(one.standing.doubts))


def _key_holder_leaves(office: OfficeFacts) -> Iterator[Finding]:
    for name, system in office.plan.protection.systems.items():
        for one in system.encrypted:
            for person in one.holders:
                planned = office.plan.people.get(person)
                if planned is not None and planned.end is not None and planned.is_here(office.today):
                    evidence = f"{person} holds its key, and their last day is {planned.end}"
                    yield Finding("key-holder-leaves", Address(name, one.path), evidence, people=(person,))


def _without_versions(office: OfficeFacts) -> Iterator[Finding]:
    for name, files in office.protection.unversioned.items():
        evidence = f"documents of which no old version is kept, and no snapshot is made: {files}"
        yield Finding("documents-without-versions", name, evidence)


def _kept_too_short(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.protection.places:
        reach = one.standing.wanted.reach
        system = office.plan.protection.systems.get(one.address.system)
        kept = [] if system is None else list(_kept(system, one.address.path))
        if reach is not None and kept and max(kept) < reach:
            longest = show_duration(max(kept))
            evidence = f"what protects it is kept for {longest}, and it must go back {show_duration(reach)}"
            yield Finding("kept-too-short", one.address, evidence)


def _kept(system: SystemProtection, path: bytes) -> Iterator[timedelta]:
    """Yield for how long each rule keeps what would bring a folder back."""
    for rule in system.snapshots:
        if rule.keep is not None and lies_within(path, rule.of):
            yield rule.keep
    for backup in system.backups:
        if backup.keep is not None and backup.holds(path):
            yield backup.keep


CHECKS = (
    Check(
        "no-protection",
        Severity.HIGH,
        "no backup, though the plan asks for one",
        "take it into a backup, or make snapshots of it",
        _no_protection,
    ),
    Check(
        "weaker-protection",
        Severity.MEDIUM,
        "less protected than planned",
        "see protect FOLDER: another rhythm, longer keeping, a copy elsewhere",
        _weaker,
    ),
    Check(
        "homes-not-in-backup", Severity.MEDIUM, "the homes are in no backup", "take them into one", _homes_left_out
    ),
    Check(
        "synced-is-no-backup",
        Severity.MEDIUM,
        "only synchronised: a loss is copied too",
        "synchronising carries a loss along: make snapshots or a backup",
        _synced_only,
    ),
    Check("copy-on-same-disk", Severity.MEDIUM, "the backup lies on the same disk", "put it on another", _same_disk),
    Check("backup-late", Severity.HIGH, "the backup is late", "see why, and run it", _late),
    Check("backup-shrunk", Severity.MEDIUM, "the backup holds far less than before", "see what is missing", _shrunk),
    Check(
        "backup-never-tried",
        Severity.LOW,
        "no restore was tried for a year",
        "bring something back, and write the day into the plan (tried)",
        _never_tried,
    ),
    Check(
        "copies-in-reach",
        Severity.MEDIUM,
        "somebody can destroy the folder and all its copies",
        "let nobody but administrators alter the copies",
        _copies_in_reach,
    ),
    Check("key-of-nobody", Severity.HIGH, "nobody holds its key", "find the key", _key_of_nobody),
    Check(
        "key-of-one",
        Severity.MEDIUM,
        "only one person holds its key",
        "give it to another",
        _key_of_one,
    ),
    Check(
        "device-not-encrypted",
        Severity.HIGH,
        "the disk is not encrypted, though the plan says so",
        "encrypt the device, or put the plan right",
        _not_encrypted,
    ),
    Check(
        "keeps-less-than-plan",
        Severity.MEDIUM,
        "keeps less in bin and old versions than planned",
        "set it as the plan says, or put the plan right",
        _keeps_less,
    ),
    Check(
        "bringing-back-not-known",
        Severity.LOW,
        "nobody knows how long a restore takes",
        "bring something back, and write into the plan how long it took and who did it (took, restore)",
        _cannot_restore,
    ),
    Check(
        "key-holder-leaves",
        Severity.MEDIUM,
        "somebody who holds its key is leaving",
        "have them hand it over before their last day",
        _key_holder_leaves,
    ),
    Check(
        "documents-without-versions",
        Severity.LOW,
        "documents have no old versions",
        "keep old versions (space: keep-versions), or make snapshots",
        _without_versions,
    ),
    Check(
        "kept-too-short",
        Severity.LOW,
        "copies are kept for a shorter time than planned",
        "keep them longer",
        _kept_too_short,
    ),
)
