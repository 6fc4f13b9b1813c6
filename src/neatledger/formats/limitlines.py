"""Steps on limits as lines for a POSIX shell: quota groups of a Btrfs file system, and quotas of owners and groups.

btrfs-qgroup(8) sets what a subvolume may hold. setquota(8) sets a soft limit, which may be passed for the time of
grace, and a hard one, in blocks of 1,024 bytes; what is set for the number of files is taken over from quota(1).
"""

from __future__ import annotations

from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.steps.limits import LimitStep
from neatledger.formats.shelllines import guarded, quoted, quoted_text

__all__ = ["limit_lines"]

_BLOCK = 1024
_DAY = 24 * 3600


def limit_lines(step: LimitStep, root: bytes, *, is_btrfs: bool) -> list[str]:
    """Return a step on a limit as lines; nothing where no line says it. `root` is where the system's tree lies."""
    if is_btrfs and step.on is On.FOLDER:
        return _quota_group_lines(step, root)
    if step.on in (On.PERSON, On.GROUP) and all(_is_kept(one) for one in (step.before, step.after)):
        return _quota_lines(step, root)
    return []


def _quota_group_lines(step: LimitStep, root: bytes) -> list[str]:
    if not (step.after.enforced and step.before.enforced):
        return []
    folder = quoted(root + step.name.encode("utf-8", "surrogateescape"))
    before, after = (str(one.limit) if one.limit is not UNLIMITED else "none" for one in (step.before, step.after))
    found = f"btrfs qgroup show --raw -rf {folder} | awk 'END {{print $4}}'"
    return [guarded(f'test "$({found})" = {before}', [f"btrfs qgroup limit {after} {folder}"], folder)]


def _is_kept(settings: Settings) -> bool:
    """Tell whether quotas keep just that: zero blocks are no limit there, and a soft limit is none without grace."""
    amount = settings.limit
    if amount is UNLIMITED:
        return True
    is_watched_for_ever = not settings.enforced and settings.grace_days is None
    return amount >= _BLOCK and amount % _BLOCK == 0 and not is_watched_for_ever


def _quota_lines(step: LimitStep, root: bytes) -> list[str]:
    name = quoted_text(step.name)
    flag = "-u" if step.on is On.PERSON else "-g"
    system = f'"$(stat -c %m -- {quoted(root)})"'
    before, after = (_soft_and_hard(one) for one in (step.before, step.after))
    # Of the last line of quota(1): blocks used, soft, hard; grace; files used, soft, hard.
    told = f"quota {flag} -vwp --show-mntpoint --hide-device --filesystem={system} {name} | tail -n 1 | tr -d '*'"
    test = f"set -- $({told}) && test \"$3 $4\" = '{before}'"
    commands = [f'setquota {flag} {name} {after} "$7" "$8" {system}']
    if not step.after.enforced:
        assert step.after.grace_days is not None, "a soft limit has a time of grace"
        grace = step.after.grace_days * _DAY
        lines = f"# grace there is one for all: setquota -t {flag} {grace} {grace} {system}"
        return [lines, guarded(test, commands, name)]
    return [guarded(test, commands, name)]


def _soft_and_hard(settings: Settings) -> str:
    if settings.limit is UNLIMITED:
        return "0 0"
    blocks = settings.limit // _BLOCK
    return f"0 {blocks}" if settings.enforced else f"{blocks} 0"
