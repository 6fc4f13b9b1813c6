"""Steps on the accounts and groups of a machine, or of an SMB server on it, as lines for a POSIX shell.

groupadd(8), groupdel(8), gpasswd(1), useradd(8), userdel(8) and usermod(8) lines; of an SMB server's own database of
passwords smbpasswd(8) lines. Each first asks getent(1) or pdbedit(8) whether what it changes is as it was counted.
"""

from __future__ import annotations

from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import AccountState
from neatledger.formats.shelllines import guarded, quoted_text

__all__ = ["account_lines", "smb_account_lines"]


def account_lines(step: Step, ident: str) -> list[str]:
    """Return a step on accounts and groups of a machine as lines; nothing where no line says it.

    `ident` is the number of the account whose login an account step names.
    """
    match step:
        case MemberStep() if not step.is_group and step.group.isdecimal():
            group, member = quoted_text(step.name), quoted_text(step.member)
            is_in = f"getent group {group} | cut -d: -f4 | tr , '\\n' | grep -qxF -e {member}"
            test = f"{_has_number('group', group, step.group)} && {'! ' if step.after else ''}{is_in}"
            flag = "-a" if step.after else "-d"
            return [guarded(test, [f"gpasswd {flag} {member} {group}"], group)]
        case GroupStep() if step.group.isdecimal():
            name = quoted_text(step.name)
            if not step.made:
                return [guarded(_has_number("group", name, step.group), [f"groupdel {name}"], name)]
            put = [f"gpasswd -a {quoted_text(step.first)} {name}"] if step.first else []
            return [guarded(_is_free("group", name, step.group), [f"groupadd -g {step.group} {name}", *put], name)]
        case AccountStep() if ident.isdecimal():
            login = quoted_text(step.login)
            is_opened = step.after is AccountState.OPEN
            change = "--unlock --expiredate ''" if is_opened else "--lock --expiredate 1"
            return [guarded(_has_number("passwd", login, ident), [f"usermod {change} {login}"], login)]
        case WholeAccountStep() if step.account.ident.isdecimal() and step.account.primary.isdecimal():
            return _whole_account_lines(step)
        case _:
            return []


def _has_number(database: str, name: str, number: str) -> str:
    """Return a test that an account or a group is there with its number."""
    return f'test "$(getent {database} {name} | cut -d: -f3)" = {number}'


def _is_free(database: str, name: str, number: str) -> str:
    return f"! getent {database} {name} >/dev/null && ! getent {database} {number} >/dev/null"


def _whole_account_lines(step: WholeAccountStep) -> list[str]:
    """Return useradd(8) and userdel(8) lines: an account without a home made for it, and without a password."""
    account = step.account
    login = quoted_text(account.login)
    if step.after is None:
        return [guarded(_has_number("passwd", login, account.ident), [f"userdel {login}"], login)]
    words = [f"useradd -M -u {account.ident} -g {account.primary}"]
    words += [f"-c {quoted_text(account.name)}"] if account.name else []
    words += [f"-d {quoted_text(account.home)}"] if account.home else []
    words += [f"-s {quoted_text(account.shell)}"] if account.shell else []
    words += [f"-G {','.join(step.groups)}"] if step.groups else []
    return [guarded(_is_free("passwd", login, account.ident), [" ".join([*words, "--", login])], login)]


def smb_account_lines(step: Step) -> list[str]:
    """Return the line that opens or closes an account of an SMB server; nothing of other steps."""
    if not isinstance(step, AccountStep):
        return []
    login = quoted_text(step.login)
    is_opened = step.after is AccountState.OPEN
    # Of the flags between the brackets D says that it is closed (pdbedit(8)).
    flags = f"pdbedit -Lv -u {login} | grep '^Account Flags:'"
    test = f"{flags} | grep -q{'' if is_opened else 'v'} '\\[[^]]*D'"
    return [guarded(test, [f"smbpasswd {'-e' if is_opened else '-d'} {login}"], login)]
