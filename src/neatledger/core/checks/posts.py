"""Posts: people without one, posts without anybody, and what is beyond them without a reason, or past its end."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.plan.plan import Kind, Person
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _people_here(office: OfficeFacts) -> Iterator[Person]:
    for person in office.plan.people.values():
        if person.kind is Kind.STAFF and person.is_here(office.today):
            yield person


def _without_post(office: OfficeFacts) -> Iterator[Person]:
    for person in _people_here(office) if office.plan.posts else ():
        if person.accounts and not office.plan.posts_of(person.id):
            yield person


def _no_post(office: OfficeFacts) -> Iterator[Finding]:
    for person in _without_post(office):
        if not any(one.until and one.until < office.today for one in person.posts):
            yield Finding("no-post", person.id, f"{person.name} has accounts, and the plan says no post of theirs")


def _post_over(office: OfficeFacts) -> Iterator[Finding]:
    for person in _without_post(office):
        if any(one.until and one.until < office.today for one in person.posts):
            yield Finding("post-over", person.id, f"{person.name} held {_posts_until(person)}; no other post follows")


def _posts_until(person: Person) -> str:
    return ", ".join(f"{one.post} until {one.until}" for one in person.posts if one.until)


def _post_vacant(office: OfficeFacts) -> Iterator[Finding]:
    held = {one.post for person in _people_here(office) for one in office.plan.posts_of(person.id)}
    for post in office.plan.posts.values():
        if post.id not in held:
            yield Finding("post-vacant", post.id, f"nobody who is here holds the post {post.name} today")


def _beyond_posts(office: OfficeFacts) -> Iterator[Finding]:
    plan = office.plan
    for person in _people_here(office):
        held = plan.posts_of(person.id)
        if not held:
            continue
        by_post = {group for one in held for group in plan.posts[one.post].groups}
        said = {one.group or one.folder for one in person.beyond}
        for name, group in plan.groups.items():
            if person.id in group.members and name not in by_post and name not in said:
                evidence = f"{person.id} is listed in {name}, which no post of theirs gives"
                yield Finding("beyond-posts", person.id, evidence)
        for folder in plan.folders:
            if person.id in folder.grants and folder.address not in said:
                evidence = f"the plan grants {person.id} {folder.grants[person.id].value} by name"
                yield Finding("beyond-posts", folder.address, evidence, people=(person.id,))


def _beyond_over(office: OfficeFacts) -> Iterator[Finding]:
    for person in office.plan.people.values():
        for one in person.beyond:
            if not one.is_over(office.today):
                continue
            place: Address | str = person.id if one.folder is None else one.folder
            is_listed = one.group in office.plan.groups and person.id in office.plan.groups[one.group].members
            if one.folder is not None or is_listed:
                what = "the plan grants it by name" if one.folder is not None else f"they are listed in {one.group}"
                evidence = f"{person.id} had it until {one.until} ({one.because}), and {what} still"
                yield Finding("beyond-over", place, evidence, people=(person.id,))


CHECKS = (
    Check(
        "no-post",
        Severity.LOW,
        "has accounts, but no post in the plan",
        "say it in the plan: people: {ID: {posts: [POST]}}",
        _no_post,
    ),
    Check(
        "post-over",
        Severity.MEDIUM,
        "the last post has ended, but the person is still here",
        "give them another post (move), or a last day (leave)",
        _post_over,
    ),
    Check("post-vacant", Severity.LOW, "nobody holds the post", "fill it, or take it out of the plan", _post_vacant),
    Check(
        "beyond-posts",
        Severity.LOW,
        "has something beyond their posts, without a reason",
        "say why and until when (people: {ID: {beyond: […]}}), or take it away",
        _beyond_posts,
    ),
    Check(
        "beyond-over",
        Severity.MEDIUM,
        "still has something that was meant to end",
        "take it out of the plan, and mend; or say a later day",
        _beyond_over,
    ),
)
