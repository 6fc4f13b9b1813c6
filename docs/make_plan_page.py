"""Write docs/plan.md, the reference page of office.yaml, from its JSON Schema:  python docs/make_plan_page.py"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from neatledger.office.read import load_schema

HEAD = """# office.yaml, key by key

Made from `src/neatledger/office/schema.json` (JSON Schema 2020-12) by `python docs/make_plan_page.py`.
Every fault in the file is reported at once, with its line and column, what was found and what was expected.
Dates are written as 2026-03-31, folders as `system:/path`. An entry without a value (`ada:`) has all as by default.
"""


TAIL = """
## Reserved words

Holders that are no names of yours: `everyone` (all accounts), `staff`, `guests`, `services` (people of that
kind in the plan), and `anyone` (whoever holds an open link). No person or group of the plan may be called so.
A system's own group of such a name gets another one here, and `names:` says what the system calls it:
`barn-staff: {members: [ada], names: {barn: staff}}`; `draft` does that by itself.

`no limit` and `for ever` are words of their own, and never a zero. kB, MB, GB, TB are powers of 1000, KiB,
MiB, GiB, TiB of 1024.

## Help with writing it

`neatledger plan` tells every fault at once, with the nearest names, and what in the plan no system
knows; `plan PERSON` or `FOLDER` all that it says there, by line. An editor that reads `#
yaml-language-server: $schema=office.schema.json` in the first line completes keys and marks faults as you
type: `connect` writes that line and the file, `neatledger plan --schema -o office.schema.json` makes the file
anew. Words of before (`drop`, `single-files`) are read as they were; `neatledger plan --write` spells them as
today, and changes nothing else.
"""


def kind_of(schema: dict[str, Any], defs: dict[str, Any]) -> str:
    if "$ref" in schema:
        schema = defs[schema["$ref"].rpartition("/")[2]]
    if "title" in schema:
        return schema["title"]
    if "enum" in schema:
        return " \\| ".join(f"`{word}`" for word in schema["enum"])
    return {"object": "a mapping", "array": "a list", "string": "text", "boolean": "`true` or `false`",
            "integer": "a whole number", "number": "a number"}.get(schema.get("type", ""), "")  # fmt: skip


def table(properties: dict[str, Any], required: list[str], defs: dict[str, Any]) -> list[str]:
    lines = ["| key | value | meaning |", "|---|---|---|"]
    for key, schema in properties.items():
        needed = " (required)" if key in required else ""
        lines.append(f"| `{key}`{needed} | {kind_of(schema, defs)} | {schema.get('description', '')} |")
    return lines


def inner(properties: dict[str, Any], defs: dict[str, Any]) -> list[str]:
    """Return the tables of mappings inside a system: privileges, accounts, and a directory."""
    lines = ["### Privileges", "", *table(properties["privileges"]["properties"], [], defs), ""]
    accounts: dict[str, Any] = {}
    for option in properties["accounts"]["oneOf"]:
        accounts |= option.get("properties", {})
    lines += ["### Accounts", "", *table(accounts, [], defs), ""]
    ldap = accounts["ldap"]
    return [*lines, "### A directory (`ldap`)", "", *table(ldap["properties"], ldap["required"], defs), ""]


def main() -> None:
    schema = load_schema()
    defs = schema["$defs"]
    lines = [HEAD, *table(schema["properties"], schema["required"], defs), ""]
    parts = schema["properties"]
    more = {
        "band": defs["limit"],
        "limit of a place": defs["placedLimit"],
        "pool": parts["pools"]["additionalProperties"],
        "entitlement": parts["entitlements"]["additionalProperties"],
        "bar": parts["barred"]["items"],
        "rule of syncing (`sync`)": parts["sync"],
        "report (`reports: space`)": parts["reports"]["properties"]["space"],
    }
    for name in ("system", "person", "group", "folder", "expectation", "acceptance", "signer"):
        lines += [f"## One {name}", "", *table(defs[name]["properties"], defs[name].get("required", []), defs), ""]
        if name == "system":
            web = defs[name]["properties"]["web"]["properties"]
            lines += ["### Over HTTP (`web`)", "", *table(web, [], defs), ""]
            lines += inner(defs[name]["properties"], defs)
            lines += ["### Counting and keeping (`space`)", "", *table(defs["space"]["properties"], [], defs), ""]
            figures = defs[name]["properties"]["figures"]["items"]
            lines += ["### Own figures (`figures`)", "", *table(figures["properties"], figures["required"], defs), ""]
    for name, one in more.items():
        lines += [f"## One {name}", "", *table(one["properties"], one.get("required", []), defs), ""]
    lines += ["## Limits (`limits`)", "", *table(parts["limits"]["properties"], [], defs), ""]
    lines += ["## Workers (`workers`)", "", *table(parts["workers"]["properties"], [], defs), ""]
    lines += ["## Settings (`settings`)", "", *table(parts["settings"]["properties"], [], defs), ""]
    Path(__file__).with_name("plan.md").write_text("\n".join(lines).rstrip() + "\n" + TAIL, encoding="utf-8")


if __name__ == "__main__":
    main()
