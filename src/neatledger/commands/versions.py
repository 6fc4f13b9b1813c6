"""``versions [SYSTEM]``: what old versions and the bin take, and what another setting would free or cost."""

from __future__ import annotations

import argparse
from collections.abc import Mapping

from neatledger.app import App
from neatledger.commands.holdings import counts_until, load_views, view_of
from neatledger.core.plan.space import Sort
from neatledger.core.space.versions import Changes, KeptVersions, bound_versions
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.progress import Progress
from neatledger.faces.show import show_report
from neatledger.ledger.space import SpaceView
from neatledger.reports.versions import versions_report

__all__ = ["add_arguments", "bin_bytes", "kept_versions", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("system", metavar="SYSTEM", nargs="?", help="one system alone")
    parser.add_argument("--keep", type=int, metavar="N", help="compare with N versions kept of every file")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is measured, and bound what is not."""
    if args.keep is not None and args.keep < 0:
        raise UsageError(f"{args.keep} versions cannot be kept", hint="--keep 0 keeps none")
    views = load_views(app)
    if args.system and args.system not in views:
        raise UnknownNameError(f"no system is named {args.system!r}", hint=f"there are: {', '.join(views)}")
    found = []
    with Progress(app.streams.err, "history", quiet=app.options.quiet) as progress:
        for name, view in views.items():
            if args.system in (None, name):
                kinds = kept_versions(app, view, args.keep)
                found.append((name, view.rules, kinds, bin_bytes(view)))
                progress(1)
    machine = app.options.format != "table"
    show_report(versions_report(found, app.count.when, asked=args.keep is not None, machine=machine), app)
    return 0


def kept_versions(app: App, view: SpaceView, keep: int | None) -> list[KeptVersions]:
    """Return what versions take on one system, by kind."""
    history: list[Mapping[str, Changes]] = []
    before = None
    for count in counts_until(app):
        reader = app.readers_of(count).get(view.name)
        if reader is None:
            continue
        then = view_of(app, reader, with_principals=False)
        since = None if before is None else before.timestamp()
        history.append({kind: Changes(*figures) for kind, figures in then.changes_by_kind(since).items()})
        before = count.taken_at
    return bound_versions(history, _measured(view), view.rules, keep)


def _measured(view: SpaceView) -> dict[str, int] | None:
    """Return what versions take by kind, None where the system shows none."""
    if not view.rules.patterns.get(Sort.VERSIONS):
        return None
    found = view.kinds_of_sort(Sort.VERSIONS)
    return {kind: figures["occupied"] for kind, figures in found.items()}


def bin_bytes(view: SpaceView) -> int | None:
    """Return what a system's bin holds, None where it shows none."""
    if not view.rules.patterns.get(Sort.BIN):
        return None
    return view.by_sort().get(Sort.BIN, {"occupied": 0})["occupied"]
