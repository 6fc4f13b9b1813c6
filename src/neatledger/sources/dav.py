"""A WebDAV server: its tree by PROPFIND (RFC 4918 section 9.1), lists by RFC 3744, quota figures by RFC 4331.

All of it is asked for at once (Depth: infinity) where the server allows that, which it need not. Whatever shows
nothing in it then is asked by itself, as every collection is elsewhere, several side by side: an empty collection,
one that may not be listed, and one that the server left out look alike. A server that does not tell lists leaves them
unknown, but in team folders, where the members' roles decide.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from urllib.parse import quote_from_bytes, unquote_to_bytes, urlsplit

from neatledger.core.lists import role
from neatledger.core.plan.limits import UNLIMITED, Limit, On
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.survey.survey import Facts, Survey
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import SeenState
from neatledger.errors import FormatError, SourceError
from neatledger.formats.davxml import ASK, Resource, parse_resources
from neatledger.sources.accounts import read_accounts, settle
from neatledger.sources.assemble import make_survey
from neatledger.sources.contract import SourceContext
from neatledger.sources.http import Web
from neatledger.sources.rolelists import NOT_TOLD, groups_named, resolve_lists
from neatledger.sources.rows import Path, Row, RowTree
from neatledger.sources.shared import read_shared

__all__ = ["read"]

_UNREAD = role.RoleModel.unread
_HEADERS = {"Depth": "1", "Content-Type": "application/xml; charset=utf-8"}
_ROUNDS, _AT_ONCE, _DEEPEST = 4, 4, 200
_REFUSED = (401, 403)
_OK, _NOT_FOUND, _NO_ROOM = 200, 404, 507


def read(context: SourceContext) -> Survey:
    """Read a server; settings: url, web, accounts, sharing. Raises `SourceError`."""
    url = str(context.settings["url"])
    found = read_accounts(context)
    facts: Facts = {"read_only": 0, "pool_bytes": None, "pool_free_bytes": None}
    shared = read_shared(context, found, facts)
    with Web(context, url) as web:
        walk = _Walk(web, url, context)
        walk.run()
    if () not in walk.tree.rows or walk.tree.rows[()].kind != "folder":
        raise SourceError("the root is no collection, or tells nothing of itself", url, "name the address of one")
    tops = {parts_of(team.path) for team in shared.teams} if shared else set()
    resolve_lists(walk.tree, tops, _UNREAD)
    walk.mark_unread()
    found.add_untold_groups(groups_named(walk.tree, [account.ident for account in found.accounts]))
    settle(facts, found, context)
    facts["entries"] = len(walk.tree.rows)
    facts["limits"] = [one.to_facts() for one in walk.limits]
    survey = make_survey(
        context.system, "dav", walk.tree.assemble(), (found.accounts, found.groups, found.not_seen), facts, "role"
    )
    survey.shared = shared
    return survey


@dataclass(frozen=True, slots=True)
class _Closed:
    """A collection that could not be read: why, and whether it was refused."""

    why: str
    is_refused: bool


@dataclass
class _Walk:
    """Goes through the collections level by level."""

    web: Web
    url: str
    context: SourceContext
    tree: RowTree = field(default_factory=RowTree)
    limits: list[FoundLimit] = field(default_factory=list)
    _limit_of: dict[Path, Limit] = field(default_factory=dict)
    _untold: dict[Path, int] = field(default_factory=dict)
    _whole: dict[Path, list[Resource]] = field(default_factory=dict)

    def run(self) -> None:
        """Read all collections; raises `SourceError` where the root cannot be read, or the server is gone."""
        self._base = parts_of(unquote_to_bytes(urlsplit(self.url).path))
        level: list[Path] = [()]
        self._whole = self._ask_whole()
        pool = ThreadPoolExecutor(_AT_ONCE)
        try:
            while level:
                below: list[Path] = []
                for path, found in zip(level, pool.map(self._ask, level), strict=True):
                    if isinstance(found, _Closed):
                        self._close(path, found)
                        continue
                    self.context.progress(len(found))
                    below += self._take(path, found)
                level = below
        finally:
            # After an error, or Ctrl-C, nobody waits for the rest.
            pool.shutdown(wait=False, cancel_futures=True)

    def _ask_whole(self) -> dict[Path, list[Resource]]:
        """Ask for everything at once; return what each collection holds, nothing where that cannot be had."""
        headers = {**_HEADERS, "Depth": "infinity"}
        try:
            # Whoever cannot do it need not be asked again: there is another way.
            answer = self.web.ask("PROPFIND", self._address(()), content=ASK, headers=headers, tries=1)
            resources = parse_resources(answer.content) if answer.status_code == 207 else []
        except (SourceError, FormatError):
            return {}
        found: dict[Path, list[Resource]] = {}
        deepest = 0
        for resource in resources:
            inner = parts_of(resource.path)
            is_inside = inner[: len(self._base)] == self._base
            path = inner[len(self._base) :] if is_inside else ()
            deepest = max(deepest, len(path))
            found.setdefault(path[:-1], []).append(resource)
        # Some take infinity for one level, and some say that there was no room for more (RFC 4918 section 11.5).
        is_whole = deepest > 1 and all(resource.status != _NO_ROOM for resource in resources)
        return found if is_whole else {}

    def _take(self, path: Path, found: Sequence[Resource]) -> Iterator[Path]:
        """Add what a collection holds, and yield the collections in it."""
        for resource in found:
            inner = parts_of(resource.path)
            if inner[: len(self._base)] != self._base or inner[len(self._base) :][: len(path)] != path:
                self.tree.miss(path, f"an address outside of what was asked for: {resource.path[:80]!r}")
                continue
            inner = inner[len(self._base) :]
            if len(inner) > len(path) + 1:
                self.tree.miss(inner, "an item deeper than was asked for")
            elif resource.status != _OK:
                # A member may be answered by a status alone: nobody knows what it is, or what is below it.
                if not inner:
                    raise SourceError(f"refused to tell of the root: status {resource.status}", self.url)
                status = f"status {resource.status}" if resource.status else "no word of what it is"
                self.tree.miss(inner, f"refused to be looked at: {status}")
            elif inner != path or not path:
                self._add(resource, inner)
                if resource.is_folder and len(inner) > _DEEPEST:
                    self._close(inner, _Closed(f"deeper than {_DEEPEST} folders: not looked into", False))
                elif resource.is_folder and inner != path:
                    yield inner

    def mark_unread(self) -> None:
        """Mark the items whose lists were not told, once it is known where team folders decide."""
        for path, row in self.tree.rows.items():
            if row.body == _UNREAD and row.state is SeenState.WHOLE:
                self.tree.rows[path] = replace(row, state=SeenState.LIST_UNKNOWN)
        left = [status for path, status in self._untold.items() if self.tree.rows[path].body == _UNREAD]
        if left:
            items = f"{len(left):,} items" if len(left) > 1 else "an item"
            told = f"status {max(left)}" if any(left) else "no such property"
            self.tree.miss((), f"the server tells no access list of {items} ({told}): nobody knows who gets in there")

    def _address(self, path: Path) -> str:
        base = self.url if self.url.endswith("/") else self.url + "/"
        return base + "".join(quote_from_bytes(part, safe="") + "/" for part in path)

    def _ask(self, path: Path) -> Sequence[Resource] | _Closed:
        """Return what a collection holds, itself among it; or that it was refused, or has gone since."""
        fault = ""
        if path in self._whole:
            return self._whole.pop(path)
        for _ in range(_ROUNDS):
            answer = self.web.ask("PROPFIND", self._address(path), content=ASK, headers=_HEADERS)
            status = answer.status_code
            if status == 207:
                try:
                    return parse_resources(answer.content)
                except FormatError as error:
                    # Half a page: the whole one may come the next time.
                    fault = str(error)
                    continue
            message = f"{status} {answer.reason_phrase}"
            if not path:
                raise SourceError(f"refused to list the root: {message}", self.url)
            if status == 401 or status >= 500:
                self._ask_for_root(message)
            gone = "it went away while it was being read" if status == 404 else f"refused to be listed: {message}"
            return _Closed(gone, status in _REFUSED)
        raise SourceError(f"no whole answer in {_ROUNDS} tries: {fault}", self._address(path), "count again later")

    def _ask_for_root(self, message: str) -> None:
        """Raise `SourceError` where a server that refused a collection tells nothing at all any more.

        What it told by then is half of it, and no count; one collection that it cannot tell of is a hole in one.
        """
        headers = {**_HEADERS, "Depth": "0"}
        answer = self.web.ask("PROPFIND", self._address(()), content=ASK, headers=headers)
        if answer.status_code != 207:
            hint = "count again later: the count before stands"
            raise SourceError(f"it stopped answering while it was read: {message}", self.url, hint)

    def _close(self, path: Path, closed: _Closed) -> None:
        self.tree.miss(path, closed.why)
        row = self.tree.rows[path]
        body = _UNREAD if closed.is_refused and row.body == NOT_TOLD else row.body
        self.tree.add(Row(path, "folder", row.owner, body, state=SeenState.NOT_OPENED, changed=row.changed))

    def _add(self, resource: Resource, path: Path) -> None:
        kind = "folder" if resource.is_folder else "file"
        body = NOT_TOLD
        if resource.entries is not None:
            body = role.pack_body(list(resource.entries))
        elif resource.list_status in (0, _NOT_FOUND):
            self._untold[path] = resource.list_status
        else:
            body = _UNREAD
            self.tree.miss(path, f"refused to show its list: status {resource.list_status}")
        self.tree.add(Row(path, kind, resource.owner, body, None, resource.size, resource.size, resource.changed))
        if resource.is_folder and resource.used_bytes is not None:
            self._add_limit(resource, path)

    def _add_limit(self, resource: Resource, path: Path) -> None:
        """Keep the figures of a collection where they are not those of the one above it."""
        used, available = resource.used_bytes, resource.available_bytes
        limit = UNLIMITED if available is None or used is None else used + available
        self._limit_of[path] = limit
        if path and (limit is UNLIMITED or self._limit_of.get(path[:-1]) == limit):
            return
        where = "/" + "/".join(part.decode("utf-8", "surrogateescape") for part in path)
        self.limits.append(FoundLimit(On.FOLDER, where, limit, used=used, by="WebDAV quota properties"))
