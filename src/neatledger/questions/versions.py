"""What old versions and the bin take, and what another setting would free or cost."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from neatledger.core.plan.space import Sort, SpaceRules
from neatledger.core.space.figures import NOTHING
from neatledger.core.space.versions import Changes, KeptVersions, bound_versions
from neatledger.errors import UsageError
from neatledger.ledger.space import SpaceView
from neatledger.questions.limits import recent_counts
from neatledger.questions.office import Office
from neatledger.questions.views import load_views, view_of

__all__ = ["SystemVersions", "ask", "bin_bytes", "kept_versions"]


@dataclass(frozen=True, slots=True)
class SystemVersions:
    """One system: its rules, what versions take by kind, and what its bin holds (None: it shows none)."""

    system: str
    rules: SpaceRules
    kinds: list[KeptVersions]
    bin_bytes: int | None


def ask(
    office: Office,
    system: str | None = None,
    keep: int | None = None,
    progress: Callable[[int], None] = lambda _: None,
) -> list[SystemVersions]:
    """Return every system, or one, compared with another number kept; raises `UnknownNameError` or `UsageError`."""
    if keep is not None and keep < 0:
        raise UsageError(f"{keep} versions cannot be kept", hint="SYSTEM=0 keeps none")
    views = load_views(office)
    system = office.find_system(system) if system else None
    found = []
    for name, view in views.items():
        if system in (None, name):
            found.append(
                SystemVersions(
                    name,
                    view.rules,
                    kept_versions(office, view, None if keep is None else {"": keep}),
                    bin_bytes(view),
                )
            )
            progress(1)
    return found


def kept_versions(office: Office, view: SpaceView, keep: Mapping[str, int] | None) -> list[KeptVersions]:
    """Return what versions take on one system, by kind; `keep` as of `bound_versions`."""
    history: list[Mapping[str, Changes]] = []
    before = None
    for count in recent_counts(office):
        reader = office.readers_of(count).get(view.name)
        if reader is None:
            continue
        then = view_of(office, reader, with_principals=False)
        since = None if before is None else before.timestamp()
        history.append({kind: Changes(*figures) for kind, figures in then.changes_by_kind(since).items()})
        before = count.taken_at
    return bound_versions(history, _measured(view), view.rules, keep)


def _measured(view: SpaceView) -> dict[str, int] | None:
    """Return what versions take by kind, None where the system shows none."""
    if not view.rules.patterns.get(Sort.VERSIONS):
        return None
    return {kind: figures.occupied for kind, figures in view.kinds_of_sort(Sort.VERSIONS).items()}


def bin_bytes(view: SpaceView) -> int | None:
    """Return what a system's bin holds, None where it shows none."""
    if not view.rules.patterns.get(Sort.BIN):
        return None
    return view.by_sort().get(Sort.BIN, NOTHING).occupied
