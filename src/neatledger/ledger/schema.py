"""The tables of the ledger, and how an older file becomes a newer one.

`MIGRATIONS[n]` turns a file of version n into one of version n + 1; SQLite's user_version holds the
version. Counts are never altered: triggers refuse it, whoever asks.
"""

from __future__ import annotations

__all__ = ["APPLICATION_ID", "CHAINED", "MIGRATIONS", "VERSION"]

APPLICATION_ID = 0x4E4C4447  # "NLDG"

_FIRST = """
CREATE TABLE counts (
    id INTEGER PRIMARY KEY,
    taken_at TEXT NOT NULL,              -- UTC, ISO 8601
    tool TEXT NOT NULL
);
CREATE INDEX counts_by_time ON counts (taken_at);
CREATE TABLE surveys (
    id INTEGER PRIMARY KEY,
    count_id INTEGER NOT NULL REFERENCES counts (id),
    system TEXT NOT NULL,
    source TEXT NOT NULL,
    model TEXT NOT NULL,
    folders INTEGER NOT NULL,
    files INTEGER NOT NULL,
    facts TEXT NOT NULL,                 -- JSON object
    UNIQUE (count_id, system)
);
CREATE TABLE accounts (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    place INTEGER NOT NULL,
    login TEXT NOT NULL, ident TEXT NOT NULL, primary_ident TEXT NOT NULL,
    name TEXT NOT NULL, email TEXT NOT NULL, home TEXT NOT NULL, shell TEXT NOT NULL,
    state TEXT NOT NULL, note TEXT NOT NULL,
    PRIMARY KEY (survey_id, place)
) WITHOUT ROWID;
CREATE TABLE account_groups (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    place INTEGER NOT NULL,
    name TEXT NOT NULL, ident TEXT NOT NULL,
    members TEXT NOT NULL, nested TEXT NOT NULL,   -- JSON arrays
    PRIMARY KEY (survey_id, place)
) WITHOUT ROWID;
CREATE TABLE not_seen (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    place INTEGER NOT NULL,
    path BLOB NOT NULL,
    why TEXT NOT NULL,
    PRIMARY KEY (survey_id, place)
) WITHOUT ROWID;
CREATE TABLE packed (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    name TEXT NOT NULL,                  -- table.column
    chunk INTEGER NOT NULL,
    data BLOB NOT NULL,                  -- zlib; see packing.py
    UNIQUE (survey_id, name, chunk)
);
"""

_KEPT = ("counts", "surveys", "accounts", "account_groups", "not_seen", "packed")
_FIRST += "".join(
    f"CREATE TRIGGER {table}_never_altered BEFORE UPDATE ON {table}\n"
    f"BEGIN SELECT RAISE(ABORT, 'counts are never altered'); END;\n"
    for table in _KEPT
)

_SERVICES = """
ALTER TABLE accounts ADD COLUMN may_use INTEGER NOT NULL DEFAULT 1;
ALTER TABLE accounts ADD COLUMN last_seen TEXT NOT NULL DEFAULT '';
"""

_SHARED = """
ALTER TABLE accounts ADD COLUMN is_entitled INTEGER NOT NULL DEFAULT 1;
ALTER TABLE accounts ADD COLUMN admission TEXT NOT NULL DEFAULT '{}';   -- JSON object
CREATE TABLE shared (
    survey_id INTEGER PRIMARY KEY REFERENCES surveys (id),
    data BLOB NOT NULL                   -- zlib of JSON: team folders, hand-outs, links, devices, rules
);
CREATE TRIGGER shared_never_altered BEFORE UPDATE ON shared
BEGIN SELECT RAISE(ABORT, 'counts are never altered'); END;
"""

_UNTOLD = """
ALTER TABLE account_groups ADD COLUMN untold TEXT NOT NULL DEFAULT '[]';   -- JSON array
"""

_SEALS = """
CREATE TABLE seals (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    name TEXT NOT NULL,                  -- a table
    columns TEXT NOT NULL,               -- JSON array
    digest BLOB NOT NULL,                -- see seals.py
    PRIMARY KEY (survey_id, name)
) WITHOUT ROWID;
CREATE TRIGGER seals_never_altered BEFORE UPDATE ON seals
BEGIN SELECT RAISE(ABORT, 'counts are never altered'); END;
"""

_JOURNAL = """
CREATE TABLE journal (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL,                -- the first id of the run
    event TEXT NOT NULL,
    step INTEGER,                        -- its place in the run; null for what is of the whole run
    moment TEXT NOT NULL,                -- ISO 8601, UTC
    facts TEXT NOT NULL                  -- JSON object
);
CREATE TRIGGER journal_never_altered BEFORE UPDATE ON journal
BEGIN SELECT RAISE(ABORT, 'the journal is never altered'); END;
CREATE TRIGGER journal_never_shortened BEFORE DELETE ON journal
BEGIN SELECT RAISE(ABORT, 'the journal is never altered'); END;
"""

_FINDINGS = """
CREATE TABLE findings (
    id INTEGER PRIMARY KEY,
    count_id INTEGER NOT NULL REFERENCES counts (id),
    basis TEXT NOT NULL,                 -- a digest of what they rest on: plan, day, systems, version
    day TEXT NOT NULL,                   -- for which they were looked for, ISO 8601
    standing TEXT NOT NULL,              -- JSON object: severity, how many were not accepted
    subjects BLOB NOT NULL,              -- eight bytes for each; see findings.py
    data BLOB NOT NULL,                  -- zlib of JSON
    UNIQUE (count_id, basis)
);
CREATE TRIGGER findings_never_altered BEFORE UPDATE ON findings
BEGIN SELECT RAISE(ABORT, 'findings are never altered'); END;
"""

_REVIEWS = """
CREATE TABLE reviews (
    id INTEGER PRIMARY KEY,
    event TEXT NOT NULL,                 -- made (a pack), taken (an answer)
    moment TEXT NOT NULL,                -- ISO 8601, UTC
    facts TEXT NOT NULL,                 -- JSON object
    seal BLOB NOT NULL                   -- SHA-256 of the seal before it and of the entry
);
CREATE TRIGGER reviews_never_altered BEFORE UPDATE ON reviews
BEGIN SELECT RAISE(ABORT, 'decisions are never altered'); END;
CREATE TRIGGER reviews_never_shortened BEFORE DELETE ON reviews
BEGIN SELECT RAISE(ABORT, 'decisions are never altered'); END;
"""

_NOTICES = """
CREATE TABLE notices (
    id INTEGER PRIMARY KEY,
    event TEXT NOT NULL,                 -- begun, sent, written, deferred, refused, ended
    moment TEXT NOT NULL,                -- ISO 8601, UTC
    keys TEXT NOT NULL,                  -- JSON array: what was told, each by a name that stays
    facts TEXT NOT NULL                  -- JSON object: to whom, at which address, the subject, what the server said
);
CREATE TRIGGER notices_never_altered BEFORE UPDATE ON notices
BEGIN SELECT RAISE(ABORT, 'what was told is never altered'); END;
CREATE TRIGGER notices_never_shortened BEFORE DELETE ON notices
BEGIN SELECT RAISE(ABORT, 'what was told is never altered'); END;
"""

_CHAIN = """
CREATE TABLE chain (
    id INTEGER PRIMARY KEY,
    subject TEXT NOT NULL,               -- count, removed, journal, reviews, notices
    first INTEGER NOT NULL,              -- of which rows: the first and the last id
    last INTEGER NOT NULL,
    moment TEXT NOT NULL,                -- ISO 8601, UTC
    form INTEGER NOT NULL,               -- over which columns; see chain.py
    digests TEXT NOT NULL,               -- JSON object: table to SHA-256
    seal BLOB NOT NULL                   -- SHA-256 of the seal before it and of the link
);
CREATE TRIGGER chain_never_altered BEFORE UPDATE ON chain
BEGIN SELECT RAISE(ABORT, 'the chain is never altered'); END;
CREATE TRIGGER chain_never_shortened BEFORE DELETE ON chain
BEGIN SELECT RAISE(ABORT, 'the chain is never altered'); END;
"""

CHAINED = 10
"""The first version whose ledgers have a chain."""

MIGRATIONS: tuple[str, ...] = (
    *(_FIRST, _SERVICES, _SHARED, _UNTOLD, _SEALS, _JOURNAL, _FINDINGS, _REVIEWS, _NOTICES),
    _CHAIN,
)
VERSION = len(MIGRATIONS)
