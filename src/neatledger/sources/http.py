"""Asking a service over HTTP: signing in, waiting, asking again a bounded number of times, and plain errors.

Statuses and Retry-After as RFC 9110 has them (sections 15.5, 15.6 and 10.2.3), 429 from RFC 6585 section 4. Signing
in is Basic (RFC 7617), or a bearer token (RFC 6750) got with the client's credentials (RFC 6749 section 4.4).

No answer is read beyond bounds: of bytes as they come, of bytes unpacked, and of time from first byte to last.
"""

from __future__ import annotations

import ssl
import time
from collections.abc import Collection, Mapping
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode, urlsplit
from urllib.request import getproxies, proxy_bypass

from neatledger.core.people.credentials import LOOPBACK, is_loopback
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext

if TYPE_CHECKING:
    import httpx

__all__ = ["MOST_PAGES", "Web", "check_address"]

_TIMEOUT, _TRIES, _LONGEST_WAIT = 30.0, 5, 60.0
_AGAIN = frozenset({429, 502, 503, 504})
_MOST_BYTES, _MOST_UNPACKED, _LONGEST_ANSWER = 64 << 20, 256 << 20, 300.0
_TOO_MUCH = "nothing was stored; see whether this is the address of the service"
_OF_PACKING = frozenset({b"content-encoding", b"content-length", b"transfer-encoding"})
MOST_PAGES = 10_000
"""Pages of one table or kind: a service that never comes to an end is not followed further."""


def check_address(url: str, *, signs_in: bool) -> None:
    """Refuse an address with a password in it, or one that would send ours for all to read; raises `SourceError`.

    What is refused is never shown.
    """
    import httpx

    try:
        parsed = httpx.URL(url)
    except httpx.InvalidURL as error:
        raise SourceError(f"this is no address: {error}", hint="see url in the plan") from None
    if parsed.userinfo:
        where = f"{parsed.scheme}://…@{parsed.host}"
        hint = "take them out of the plan: the user belongs under web: {user: …}, the password into the keyring"
        raise SourceError("a user or password stands in the address", where, hint)
    if signs_in and parsed.scheme == "http" and parsed.host not in LOOPBACK:
        raise SourceError("the password would go over the network for all to read", url, "use https://")


def _proxy_for(url: str, told: str) -> str:
    """Return the proxy through which an address is asked, empty for none; raises `SourceError`.

    What the plan says goes before the environment (HTTPS_PROXY, ALL_PROXY, NO_PROXY). Nothing in the clear goes
    through a proxy, and nothing that stays on this machine: the proxy would read it, the password too.
    """
    parts = urlsplit(url)
    host = parts.hostname or ""
    if told == "none" or parts.scheme != "https" or is_loopback(host):
        return ""
    found = told
    if not found and not proxy_bypass(parts.netloc.rpartition("@")[2]):
        known = getproxies()
        found = known.get("https") or known.get("all") or ""
    if not found:
        return ""
    found = found if "://" in found else f"http://{found}"
    proxy = urlsplit(found)
    if proxy.scheme not in ("http", "https") or not proxy.hostname:
        where = f"{proxy.scheme}://{proxy.hostname or '…'}"
        hint = "name it as http://HOST:PORT, or let web: {proxy: none} in the plan go without"
        raise SourceError("this is no proxy that HTTPS can go through", where, hint)
    return found


@lru_cache(maxsize=1)
def _public_authorities() -> ssl.SSLContext:
    """Return what trusts the public authorities; there are hundreds of them, and reading them takes its time."""
    import httpx

    return httpx.create_ssl_context()


def _trusting(authorities: Path) -> ssl.SSLContext:
    """Return what trusts a file of authorities, or a folder of them, and no other; raises `OSError`."""
    if authorities.is_dir():
        return ssl.create_default_context(capath=authorities)
    return ssl.create_default_context(cafile=authorities)


class Web:
    """One service over HTTP; `web` in the settings says how to sign in, how long to wait and how often to ask."""

    def __init__(self, context: SourceContext, url: str, told: Mapping[str, Any] | None = None) -> None:
        """Make ready to ask below `url`; `told` are other settings than the system's own."""
        import httpx

        self._told: Mapping[str, Any] = told or context.settings.get("web") or {}
        check_address(url, signs_in=bool(self._told.get("user")))
        self._context = context
        self._url = url
        self._tries = int(self._told.get("tries", _TRIES))
        self._longest_answer = float(self._told.get("longest-answer", _LONGEST_ANSWER))
        self._longest = float(self._told.get("longest-wait", _LONGEST_WAIT))
        self._token = self._proxy = ""
        timeout = float(self._told.get("timeout", _TIMEOUT))
        try:
            ca = self._told.get("ca")
            trusted = _trusting(context.office_dir / str(ca)) if ca else _public_authorities()
            self._client = httpx.Client(
                verify=trusted,
                timeout=timeout,
                follow_redirects=False,
                # What else the environment says (proxies for the clear, a file of passwords) is not for us.
                trust_env=False,
                mounts=self._ways(url, trusted),
            )
        except OSError as error:
            raise SourceError(
                f"the authorities to trust cannot be read: {error}", str(self._told.get("ca"))
            ) from None
        self._auth: httpx.BasicAuth | None = None
        if self._told.get("user"):
            found = context.credentials(str(self._told["user"]), httpx.URL(url).host)
            self._auth = httpx.BasicAuth(found.user, found.password)

    def __enter__(self) -> Web:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def _ways(self, url: str, trusted: ssl.SSLContext) -> dict[str, httpx.HTTPTransport]:
        """Return what goes through a proxy, by where it goes to."""
        import httpx

        found = {}
        for address in filter(None, (url, str(self._told.get("token-url") or ""))):
            proxy = _proxy_for(address, str(self._told.get("proxy") or ""))
            if proxy:
                # The bare name: a host has the same way by all of its ports.
                host = httpx.URL(address).copy_with(port=None, path="/", query=None, fragment=None)
                found[str(host).rstrip("/")] = httpx.HTTPTransport(verify=trusted, proxy=proxy)
                self._proxy = httpx.URL(proxy).host
        return found

    def ask(
        self,
        method: str,
        url: str,
        *,
        content: str = "",
        headers: Mapping[str, str] | None = None,
        tries: int | None = None,
    ) -> httpx.Response:
        """Ask, and return the answer whatever its status but those that mean "again"; raises `SourceError`.

        `tries` is how often at most, where the plan's number is not meant.
        """
        fault = ""
        tries = tries or self._tries
        for attempt in range(tries):
            wait = min(self._longest, 0.2 * 2**attempt)
            try:
                answer = self._send(method, url, content, dict(headers or {}))
            except self._faults() as error:
                fault = str(error) or type(error).__name__
            else:
                if answer.status_code == 401 and self._told.get("token-url") and attempt + 1 < tries:
                    # A token runs out; getting another is no fault.
                    self._token, fault = "", "401 Unauthorized"
                    continue
                if answer.status_code not in _AGAIN:
                    return answer
                fault = f"{answer.status_code} {answer.reason_phrase}"
                wait = self._asked_to_wait(answer, wait)
            if attempt + 1 < tries:
                time.sleep(wait)
        hint = "nothing was stored; count again later"
        if self._proxy:
            hint = f"it was asked through the proxy {self._proxy}: web: {{proxy: none}} in the plan goes without"
        times = f" in {tries} tries" if tries > 1 else ""
        raise SourceError(f"no answer{times}: {fault}", url, hint)

    @staticmethod
    def _faults() -> tuple[type[Exception], ...]:
        import httpx

        # What is no answer at all the library tells in errors of many kinds.
        return (httpx.HTTPError, httpx.InvalidURL, httpx.StreamError, OSError, ValueError, LookupError)

    def _send(self, method: str, url: str, content: str, headers: dict[str, str]) -> httpx.Response:
        if self._told.get("token-url"):
            if not self._token:
                self._token = self._sign_in(str(self._told["token-url"]))
            headers["Authorization"] = f"Bearer {self._token}"
            return self._read(method, url, content, headers, None)
        return self._read(method, url, content, headers, self._auth)

    def _read(
        self, method: str, url: str, content: str, headers: dict[str, str], auth: httpx.BasicAuth | None
    ) -> httpx.Response:
        """Ask and read the answer within the bounds; raises `SourceError`."""
        import httpx

        until = time.monotonic() + self._longest_answer
        parts: list[bytes] = []
        unpacked = 0
        with self._client.stream(method, url, content=content or None, headers=headers, auth=auth) as answer:
            for part in answer.iter_bytes():
                unpacked += len(part)
                if answer.num_bytes_downloaded > _MOST_BYTES:
                    raise SourceError(f"an answer of more than {_MOST_BYTES >> 20} MiB", url, _TOO_MUCH)
                if unpacked > _MOST_UNPACKED:
                    message = f"an answer of more than {_MOST_UNPACKED >> 20} MiB, once it is unpacked"
                    raise SourceError(message, url, _TOO_MUCH)
                if time.monotonic() > until:
                    message = f"an answer that is not all there after {self._longest_answer:g} seconds"
                    raise SourceError(message, url, "count again later, or let web: {longest-answer: …} be longer")
                parts.append(part)
            # What packed it and how long it was are of the answer as it came.
            kept = [(name, value) for name, value in answer.headers.raw if name.lower() not in _OF_PACKING]
        return httpx.Response(answer.status_code, headers=kept, content=b"".join(parts), extensions=answer.extensions)

    def _sign_in(self, url: str) -> str:
        if self._auth is None:
            raise SourceError("nobody to sign in as", url, "name the user in the plan: web: {user: …}")
        check_address(url, signs_in=True)
        form = {"grant_type": "client_credentials"}
        kind = {"Content-Type": "application/x-www-form-urlencoded"}
        answer = self._read("POST", url, urlencode(form), kind, self._auth)
        if answer.status_code in _AGAIN:
            return ""
        try:
            token = answer.json().get("access_token") if answer.status_code == 200 else None
        except (ValueError, AttributeError):
            token = None
        if not isinstance(token, str) or not token:
            raise SourceError(f"signing in was refused: {answer.status_code} {answer.reason_phrase}", url)
        return token

    def _asked_to_wait(self, answer: httpx.Response, otherwise: float) -> float:
        """Return how long the server asks to wait: seconds or an HTTP date; never longer than the plan allows."""
        text = answer.headers.get("Retry-After", "").strip()
        if text.isdecimal():
            wait = float(text)
        else:
            try:
                wait = (parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds()
            except (ValueError, TypeError, OverflowError):
                return otherwise
        if wait > self._longest:
            hint = "count again then, or let web: {longest-wait: …} in the plan be longer"
            raise SourceError(f"the service asks to wait for {wait:.0f} seconds", self._url, hint)
        return max(0.0, wait)

    def ask_json(self, url: str, absent: Collection[int] = ()) -> dict[str, Any]:
        """Ask for a JSON object, empty where the answer has a status of `absent`; raises `SourceError`."""
        fault = ""
        for _ in range(self._tries):
            answer = self.ask("GET", url, headers={"Accept": "application/scim+json, application/json"})
            if answer.status_code in absent:
                return {}
            if answer.status_code != 200:
                raise SourceError(f"refused: {answer.status_code} {answer.reason_phrase}", url)
            try:
                found = answer.json()
            except ValueError as error:
                # Half a page: what was cut off may come whole the next time.
                fault = str(error)
                continue
            if isinstance(found, dict):
                return found
            fault = "no object"
        raise SourceError(f"an answer that cannot be read: {fault}", url)
