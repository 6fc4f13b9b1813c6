"""Hand-outs and links put to the rules: what each is, what it exposes, and what is now outside of a rule.

A rule ends nothing that was shared before it; that is why what is outside of one is shown and not left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.lists.rights import Right, level_of, level_of_file, spell_rights
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.rules import Guests, SharingRule
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import is_account
from neatledger.core.sharing.service import Service
from neatledger.core.space.sizes import show_size
from neatledger.core.survey.shared import Audience, HandOut, Link, Towards
from neatledger.core.tree.address import Address

__all__ = ["Breach", "Exposed", "Offer", "judge_offer", "offers_of", "pass_on_depth"]

_CHANGING = Right.ADD | Right.CHANGE | Right.DELETE | Right.MANAGE


@dataclass(frozen=True, slots=True)
class Exposed:
    """What is open to whoever holds it: files, their bytes, their kinds (the most frequent first), newest change.

    `large` are the bytes of the largest file that is known by name, 0 where none is. Of a single file only its
    kind is known.
    """

    files: int
    size_bytes: int | None
    kinds: tuple[str, ...]
    newest: int
    large: int = 0


@dataclass(frozen=True, slots=True)
class Offer:
    """A link or a hand-out, as tables and checks show it; `exposed` is None where its target is not there."""

    system: str
    item: HandOut | Link
    exposed: Exposed | None

    @property
    def is_link(self) -> bool:
        """Tell whether it is a link."""
        return isinstance(self.item, Link)

    @property
    def name(self) -> str:
        """What it is called where one must be named: its sort and id."""
        return f"{'link' if self.is_link else 'hand-out'}:{self.item.id}"

    @property
    def maker(self) -> str:
        """The login of who made it."""
        return self.item.maker if isinstance(self.item, Link) else self.item.giver

    @property
    def address(self) -> Address:
        """What it leads to."""
        return Address(self.system, self.item.path)

    @property
    def level(self) -> str:
        """What it gives, in a word or in words."""
        level = (level_of_file if self.item.is_file else level_of)(self.item.rights)
        return spell_rights(self.item.rights) if level.value == "mixed" else level.value

    @property
    def audience(self) -> str:
        """Whom it is for."""
        if isinstance(self.item, HandOut):
            return f"group {self.item.receiver}" if self.item.towards is Towards.GROUP else self.item.receiver
        if self.item.audience is Audience.NAMED:
            return ", ".join(self.item.named) or "nobody named"
        return {Audience.ANYONE: "anyone", Audience.GUESTS: "any guest", Audience.OFFICE: "the office"}[
            self.item.audience
        ]

    def why_dead(self, day: date) -> str:
        """Say why it gives nothing on a day, "" where it does."""
        return self.item.why_dead(day)


@dataclass(frozen=True, slots=True)
class Breach:
    """One way in which an offer is not in order: the name of the check, and what was found."""

    check: str
    message: str


def offers_of(service: Service, exposed: Mapping[bytes, Exposed | None]) -> list[Offer]:
    """Return all links and hand-outs of a service."""
    found: list[HandOut | Link] = [*service.shared.links, *service.shared.hand_outs]
    return [Offer(service.system, one, exposed.get(one.path)) for one in found]


def pass_on_depth(hand_out: HandOut, by_id: Mapping[str, HandOut]) -> int:
    """Return how often something was passed on before it came to a hand-out: 0 for one made by a first giver."""
    depth, seen = 0, {hand_out.id}
    while hand_out.passed_from in by_id and hand_out.passed_from not in seen:
        hand_out = by_id[hand_out.passed_from]
        seen.add(hand_out.id)
        depth += 1
    return depth


class _Judge:
    """Puts one offer to one rule."""

    def __init__(self, offer: Offer, rule: SharingRule, service: Service, plan: Plan, today: date) -> None:
        self.offer, self.item, self.rule = offer, offer.item, rule
        self.service, self.plan, self.today = service, plan, today
        self.is_open_link = isinstance(self.item, Link) and self.item.audience is Audience.ANYONE
        self.found: list[Breach] = []

    def say(self, check: str, message: str) -> None:
        self.found.append(Breach(check, message))

    def life(self) -> None:
        """Judge when it ends."""
        item, most = self.item, self.rule.link_days
        if not item.expires:
            wanted = f" (rule: {most} days)" if most is not None else ""
            if isinstance(item, Link) or most is not None:
                self.say("no-end", f"never ends{wanted}")
        elif most is not None:
            # Where nobody tells when it was made, at least what is left of its life is judged.
            days = (item.expires - (item.made or self.today)).days
            if days > most:
                since = "" if item.made else " from today"
                self.say("ends-too-late", f"lasts {days} days{since} (rule: {most})")

    def guards(self) -> None:
        """Judge password, transport and what may be changed."""
        item = self.item
        if not isinstance(item, Link):
            return
        # Open links are to have a password unless the plan says otherwise; others only where it asks for one.
        is_asked = self.rule.password or (self.is_open_link and self.rule.password is None)
        if is_asked and not item.password and item.audience is not Audience.NAMED:
            self.say("no-password", "asks no password")
        if not item.encrypted:
            self.say("not-encrypted", "opens without encryption")
        if self.is_open_link and item.rights & _CHANGING:
            self.say("anyone-may-change", f"anyone may {spell_rights(item.rights & _CHANGING)}")

    def bounds(self) -> None:
        """Judge audience and rights."""
        item, rule = self.item, self.rule
        if self.is_open_link:
            beyond = item.rights & ~rule.open_rights & ~(Right.ENTER | Right.VIEW)
            if beyond:
                self.say("beyond-the-rules", f"gives {self.offer.level} (rule for open links: {rule.open_links})")
        if isinstance(item, Link) and item.audience is Audience.GUESTS and rule.guests is Guests.NONE:
            self.say("beyond-the-rules", "for any guest (rule: no guests)")
        stopped = [name for name in self._guests() if not self._lets(name)]
        if stopped:
            who = rule.guests.word if rule.guests is not None else "of other domains"
            self.say("beyond-the-rules", f"for {', '.join(stopped)} (rule for guests: {who})")
        if rule.download is False and item.download and item.rights & Right.READ:
            self.say("beyond-the-rules", "may be downloaded (rule: no download)")
        if rule.single_files is False and item.is_file:
            self.say("beyond-the-rules", "a single file (rule: folders only)")

    def _guests(self) -> list[str]:
        """Return the guests and people outside whom it names."""
        item = self.item
        names: Iterable[str] = item.named if isinstance(item, Link) else ()
        if isinstance(item, HandOut) and item.towards is not Towards.GROUP:
            names = (item.receiver,)
        numbers = [self.service.numbers.get(name) for name in names]
        principals = [self.service.principals[number] for number in numbers if number is not None]
        return [principal.account.login for principal in principals if principal.kind is Kind.GUEST]

    def _lets(self, login: str) -> bool:
        return self.service.lets(self.rule, self.service.principals[self.service.numbers[login]])

    def contents(self) -> None:
        """Judge what it exposes."""
        exposed, rule = self.offer.exposed, self.rule
        if exposed is None:
            return
        barred = [kind for kind in exposed.kinds if kind in rule.barred]
        if barred:
            self.say("shared-though-barred", f"types that are not allowed in it: {', '.join(barred)}")
        if isinstance(rule.largest, int) and exposed.large > rule.largest:
            self.say(
                "shared-too-large",
                f"a file of {show_size(exposed.large)} in it (rule: {show_size(rule.largest)})",
            )

    def use(self) -> None:
        """Judge whether anybody still uses it, and whether it opens after its end."""
        item = self.item
        if not isinstance(item, Link) or not item.is_on:
            return
        # Over by its date and still switched on: some services go on serving it.
        if item.expires and self.today > item.expires:
            used = f", used on {item.last_used}" if item.last_used and item.last_used > item.expires else ""
            self.say("ended-but-on", f"ended on {item.expires}, still switched on{used}")
            return
        idle = days_of(self.plan.settings, "link-unused-days")
        # Never used is unused since it was made; one that was used on days which nobody tells is not judged.
        last = item.last_used or (None if item.uses else item.made)
        if last and last < self.today - timedelta(days=idle):
            message = f"not used since {item.last_used}" if item.last_used else "never used"
            self.say("link-unused", message)

    def ends(self) -> None:
        """Judge whether maker and target are still there."""
        if not self.offer.maker:
            # Nobody told whose it is: that they are gone was not told either.
            self._judge_target()
            return
        number = self.service.numbers.get(self.offer.maker)
        # A maker who is gone cannot be asked, and on some services their links live on.
        if number is None or not is_account(self.service.principals[number]):
            self.say("maker-gone", f"{self.offer.maker} has no account any more")
        else:
            principal = self.service.principals[number]
            person = self.plan.people.get(principal.person)
            if not principal.is_open:
                self.say("maker-gone", f"the account of {principal.person} is {principal.account.state.value}")
            elif person is not None and not person.is_here(self.today):
                self.say("maker-gone", f"{person.name} left on {person.end}")
        self._judge_target()

    def _judge_target(self) -> None:
        if self.offer.exposed is None:
            self.say("target-gone", "leads to nothing")

    def passing_on(self, by_id: Mapping[str, HandOut]) -> None:
        """Judge hand-outs of what was itself handed out."""
        item = self.item
        if not isinstance(item, HandOut):
            return
        depth = pass_on_depth(item, by_id)
        if not depth:
            return
        is_sensitive = self.plan.sharing.is_sensitive(self.offer.address)
        if is_sensitive or self.rule.pass_on is False:
            why = "the folder is sensitive" if is_sensitive else "rule: no passing on"
            self.say("passed-on", f"passed on from {item.passed_from} ({why})")
        if self.rule.chain is not None and depth > self.rule.chain:
            self.say("chain-too-deep", f"passed on {depth} times (rule: {self.rule.chain})")


def judge_offer(
    offer: Offer, rule: SharingRule, service: Service, plan: Plan, today: date, by_id: Mapping[str, HandOut]
) -> Sequence[Breach]:
    """Return all that is not in order with an offer, under a rule; one that is over has nothing to keep but its end.

    `by_id` are the service's hand-outs.
    """
    judge = _Judge(offer, rule, service, plan, today)
    judge.use()
    if not offer.why_dead(today):
        judge.life()
        judge.guards()
        judge.bounds()
        judge.contents()
        judge.passing_on(by_id)
        judge.ends()
    return judge.found
