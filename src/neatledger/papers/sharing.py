"""The paper on sharing: links and hand-outs, guests, devices, and what of it lapses."""

from __future__ import annotations

from neatledger.core.plan.sharing import days_of
from neatledger.questions import devices, guests, lapses, links
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.reports.guests import devices_report, guests_report
from neatledger.reports.lapses import lapses_report
from neatledger.reports.links import links_report
from neatledger.reports.paper import Paper, Part

__all__ = ["make"]

_SORTS = ("link", "hand-out", "guest", "team folder")


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    when, settings = office.count.when, office.plan.settings
    idle, remove = days_of(settings, "guest-idle-days"), days_of(settings, "guest-remove-days")
    offers = links.ask(office)
    shared = links_report(offers.judged, offers.names, offers.total, office.day, when)
    visitors = guests_report(guests.ask(office), office.day, idle, remove, when)
    held = devices_report(devices.ask(office), when)
    found = lapses.ask(office, what=_SORTS)
    coming = lapses_report(found.coming, found.today, len(found.past), len(found.later))
    parts = [
        Part("Links and hand-outs", shared, keys=("id", "target")),
        Part("Guests", visitors, keys=("account",)),
        Part("Devices", held, keys=("id",)),
        Part("What lapses", coming, keys=("what", "place", "who")),
    ]
    subtitle = f"As counted on {when}; written on {office.today}."
    lead = [part.report.headline for part in parts]
    return Paper(f"{office.plan.office}: sharing", subtitle, [*lead, *caveats(office, for_paper=True)], parts)
