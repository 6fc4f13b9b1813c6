"""Asking a service over HTTP: signing in, waiting, asking again a bounded number of times, and plain errors.

Statuses and Retry-After as RFC 9110 has them (sections 15.5, 15.6 and 10.2.3), 429 from RFC 6585 section 4. Signing
in is Basic (RFC 7617), or a bearer token (RFC 6750) got with the client's credentials (RFC 6749 section 4.4).
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import TYPE_CHECKING, Any

from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext

if TYPE_CHECKING:
    import httpx

__all__ = ["Web", "refuse_plain"]

_HERE = frozenset({"127.0.0.1", "::1", "localhost"})
_TIMEOUT, _TRIES, _LONGEST_WAIT = 30.0, 5, 60.0
_AGAIN = frozenset({429, 502, 503, 504})


def refuse_plain(url: str) -> None:
    """Refuse to send a password over the network for all to read; raises `SourceError`."""
    import httpx

    parsed = httpx.URL(url)
    if parsed.scheme == "http" and parsed.host not in _HERE:
        raise SourceError("the password would go over the network for all to read", url, "use https://")


class Web:
    """One service over HTTP; `web` in the settings says how to sign in, how long to wait and how often to ask."""

    def __init__(self, context: SourceContext, url: str) -> None:
        import httpx

        self._told: Mapping[str, Any] = context.settings.get("web") or {}
        self._context = context
        self._url = url
        self._tries = int(self._told.get("tries", _TRIES))
        self._longest = float(self._told.get("longest-wait", _LONGEST_WAIT))
        self._token = ""
        ca: Any = str(context.office_dir / self._told["ca"]) if self._told.get("ca") else True
        timeout = float(self._told.get("timeout", _TIMEOUT))
        try:
            self._client = httpx.Client(verify=ca, timeout=timeout, follow_redirects=False)
        except OSError as error:
            raise SourceError(
                f"the authorities to trust cannot be read: {error}", str(self._told.get("ca"))
            ) from None
        self._auth: httpx.BasicAuth | None = None
        if self._told.get("user"):
            refuse_plain(url)
            found = context.credentials(str(self._told["user"]), httpx.URL(url).host)
            self._auth = httpx.BasicAuth(found.user, found.password)

    def __enter__(self) -> Web:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def ask(
        self, method: str, url: str, *, content: str = "", headers: Mapping[str, str] | None = None
    ) -> httpx.Response:
        """Ask, and return the answer whatever its status but those that mean "again"; raises `SourceError`."""
        fault = ""
        for attempt in range(self._tries):
            wait = min(self._longest, 0.2 * 2**attempt)
            try:
                answer = self._send(method, url, content, dict(headers or {}))
            except self._faults() as error:
                fault = str(error) or type(error).__name__
            else:
                if answer.status_code == 401 and self._told.get("token-url") and attempt + 1 < self._tries:
                    # A token runs out; getting another is no fault.
                    self._token, fault = "", "401 Unauthorized"
                    continue
                if answer.status_code not in _AGAIN:
                    return answer
                fault = f"{answer.status_code} {answer.reason_phrase}"
                wait = self._asked_to_wait(answer, wait)
            if attempt + 1 < self._tries:
                time.sleep(wait)
        hint = "nothing was stored; gather again later"
        raise SourceError(f"no answer in {self._tries} tries: {fault}", url, hint)

    @staticmethod
    def _faults() -> tuple[type[Exception], ...]:
        import httpx

        return (httpx.TransportError, OSError)

    def _send(self, method: str, url: str, content: str, headers: dict[str, str]) -> httpx.Response:
        if self._told.get("token-url"):
            if not self._token:
                self._token = self._sign_in(str(self._told["token-url"]))
            headers["Authorization"] = f"Bearer {self._token}"
            return self._client.request(method, url, content=content or None, headers=headers)
        return self._client.request(method, url, content=content or None, headers=headers, auth=self._auth)

    def _sign_in(self, url: str) -> str:
        if self._auth is None:
            raise SourceError("nobody to sign in as", url, "name the user in the plan: web: {user: …}")
        refuse_plain(url)
        form = {"grant_type": "client_credentials"}
        answer = self._client.post(url, data=form, auth=self._auth)
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
            except (ValueError, TypeError):
                return otherwise
        if wait > self._longest:
            hint = "gather again then, or let web: {longest-wait: …} in the plan be longer"
            raise SourceError(f"the service asks to wait for {wait:.0f} seconds", self._url, hint)
        return max(0.0, wait)

    def ask_json(self, url: str) -> dict[str, Any]:
        """Ask for a JSON object; raises `SourceError`."""
        fault = ""
        for _ in range(self._tries):
            answer = self.ask("GET", url, headers={"Accept": "application/scim+json, application/json"})
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
