"""What a service tells of what was done, over its own interface: the table ``activity``, page by page."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.http import MOST_PAGES, Web

__all__ = ["rows_after"]

_PAGE = 1_000
_COLUMNS = ("when", "who", "did", "path", "to", "done", "folder", "address", "device", "detail")


def rows_after(
    context: SourceContext, setting: Mapping[str, Any], number: int, lost: list[str]
) -> Iterator[Mapping[str, str]]:
    """Yield the rows after so many; raises `SourceError`. `lost` takes a word where the table has become shorter."""
    url, size = str(setting["url"]).rstrip("/"), int(setting.get("page", _PAGE))
    with Web(context, url) as web:
        for _ in range(MOST_PAGES):
            answer = web.ask_json(f"{url}/activity?{urlencode({'from': number, 'count': size})}")
            page, total = answer.get("items"), answer.get("total")
            if not isinstance(page, list) or not isinstance(total, int):
                raise SourceError("no table activity: items and total are not there", url)
            if total < number:
                lost.append(f"the service tells of {total:,} things done, and told of {number:,} before")
                return
            yield from (_row(one) for one in page)
            number += len(page)
            if number >= total:
                return
            if not page:
                raise SourceError(f"a page of activity without rows at {number:,} of {total:,}", url)
        raise SourceError(f"more than {MOST_PAGES:,} pages of activity", url, "let page in the plan be larger")


def _row(told: object) -> dict[str, str]:
    """Return a row by our columns as text; one that is no object says nothing."""
    cells = told if isinstance(told, dict) else {}
    found = {}
    for one in _COLUMNS:
        value = cells.get(one, "")
        found[one] = ("yes" if value else "no") if isinstance(value, bool) else str("" if value is None else value)
    return found
