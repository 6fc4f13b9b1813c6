"""The tables of the ledger, and how an older file becomes a newer one.

`MIGRATIONS[n]` turns a file of version n into one of version n + 1; SQLite's user_version holds the
version. Counts are never altered: triggers refuse it, whoever asks.
"""

from __future__ import annotations

__all__ = ["APPLICATION_ID", "CHAINED", "FINDINGS_SEALED", "IN_BLOCKS", "MIGRATIONS", "VERSION"]

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
    subject TEXT NOT NULL,               -- count, removed, journal, reviews, notices, findings, trail
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

_TRAIL = """
CREATE TABLE trail_logs (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    file TEXT NOT NULL,                  -- as the plan names it
    head BLOB NOT NULL,                  -- SHA-256 of its first bytes, by which it is known again
    head_length INTEGER NOT NULL,
    offset INTEGER NOT NULL,             -- how far it was read
    lines INTEGER NOT NULL,
    first_moment INTEGER, last_moment INTEGER,   -- of its records, seconds since 1970, UTC
    read_at TEXT NOT NULL,               -- ISO 8601, UTC
    UNIQUE (system, file)
);
CREATE TABLE trail_names (id INTEGER PRIMARY KEY, system TEXT NOT NULL, login TEXT NOT NULL, UNIQUE (system, login));
CREATE TABLE trail_paths (id INTEGER PRIMARY KEY, system TEXT NOT NULL, path BLOB NOT NULL, UNIQUE (system, path));
CREATE TABLE trail_words (id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE);
CREATE TABLE trail_records (
    id INTEGER PRIMARY KEY,
    moment INTEGER NOT NULL,             -- seconds since 1970, UTC
    who INTEGER NOT NULL,                -- of trail_names, as all below are of the tables of their kind
    did INTEGER NOT NULL,                -- see trail/words.py
    state INTEGER NOT NULL,              -- 1: it was done; 2: of what is known to be a folder
    path INTEGER, dest INTEGER,          -- of trail_paths
    address INTEGER, device INTEGER, detail INTEGER   -- of trail_words
);
CREATE INDEX trail_by_moment ON trail_records (moment);
CREATE INDEX trail_by_who ON trail_records (who);
CREATE INDEX trail_by_path ON trail_records (path) WHERE path IS NOT NULL;
CREATE INDEX trail_by_dest ON trail_records (dest) WHERE dest IS NOT NULL;
CREATE VIEW trail AS
    SELECT r.id, r.moment, n.system, n.login, r.did, r.state, p.path, d.path AS dest,
        a.text AS address, v.text AS device, t.text AS detail
    FROM trail_records AS r JOIN trail_names AS n ON n.id = r.who
    LEFT JOIN trail_paths AS p ON p.id = r.path LEFT JOIN trail_paths AS d ON d.id = r.dest
    LEFT JOIN trail_words AS a ON a.id = r.address LEFT JOIN trail_words AS v ON v.id = r.device
    LEFT JOIN trail_words AS t ON t.id = r.detail;
CREATE TRIGGER trail_never_altered BEFORE UPDATE ON trail_records
BEGIN SELECT RAISE(ABORT, 'the trail is never altered'); END;
CREATE TRIGGER trail_never_shortened BEFORE DELETE ON trail_records
BEGIN SELECT RAISE(ABORT, 'the trail is never altered'); END;
"""

_BLOCKS = """
ALTER TABLE trail_words RENAME TO trail_words_before;
CREATE TABLE trail_words (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,                -- of which it is a login; empty: an address or a device
    text TEXT NOT NULL,                  -- empty where it was forgotten
    salt BLOB,                           -- null where it was forgotten
    digest BLOB NOT NULL                 -- SHA-256 of salt and text, by which it is proved and cannot be guessed
);
CREATE UNIQUE INDEX trail_words_by_text ON trail_words (system, text) WHERE salt IS NOT NULL;
CREATE TABLE trail_folders (id INTEGER PRIMARY KEY, system TEXT NOT NULL, path BLOB NOT NULL, UNIQUE (system, path));
CREATE TABLE trail_deeds (
    id INTEGER PRIMARY KEY,
    who INTEGER NOT NULL,                -- of trail_words, as are address and device, which may be 0
    did INTEGER NOT NULL,                -- see trail/words.py
    state INTEGER NOT NULL,              -- 1: it was done; 2: of what is known to be a folder
    address INTEGER NOT NULL, device INTEGER NOT NULL,
    UNIQUE (who, did, state, address, device)
);
CREATE TABLE trail_blocks (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    system TEXT NOT NULL,
    first_moment INTEGER NOT NULL, last_moment INTEGER NOT NULL,   -- seconds since 1970, UTC
    rows INTEGER NOT NULL,
    moments BLOB NOT NULL, deeds BLOB NOT NULL, folders BLOB NOT NULL, names BLOB NOT NULL, more BLOB NOT NULL,
    numbers BLOB                         -- all zlib; see trail/blocks.py
);
CREATE TABLE trail_moves (           -- of folders
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    moment INTEGER NOT NULL,
    source BLOB NOT NULL, dest BLOB NOT NULL
);
CREATE TABLE trail_gaps (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    file TEXT NOT NULL,
    "after" INTEGER NOT NULL, "before" INTEGER NOT NULL,
    why TEXT NOT NULL
);
CREATE INDEX trail_blocks_by_time ON trail_blocks (system, last_moment);
"""
_BLOCKS += "".join(
    f"CREATE TRIGGER {table}_never_altered BEFORE UPDATE ON {table}\n"
    f"BEGIN SELECT RAISE(ABORT, 'the trail is never altered'); END;\n"
    for table in ("trail_blocks", "trail_deeds", "trail_folders", "trail_moves", "trail_gaps")
)
_BLOCKS += """
CREATE TRIGGER trail_words_only_forgotten BEFORE UPDATE ON trail_words
WHEN NEW.text <> '' OR NEW.salt IS NOT NULL OR NEW.digest <> OLD.digest
    OR NEW.id <> OLD.id OR NEW.system <> OLD.system
BEGIN SELECT RAISE(ABORT, 'the trail is never altered'); END;
"""

_CARRIED = """
ALTER TABLE counts ADD COLUMN origin TEXT NOT NULL DEFAULT '';   -- SHA-256 of the manifest of the file it came in
ALTER TABLE counts ADD COLUMN signer TEXT NOT NULL DEFAULT '';   -- the public key that signed that, as SSH writes it
CREATE UNIQUE INDEX counts_taken_once ON counts (origin) WHERE origin <> '';
"""

_PLANS = """
CREATE TABLE plans (
    id INTEGER PRIMARY KEY,
    moment TEXT NOT NULL,                -- ISO 8601, UTC
    digest TEXT NOT NULL,                -- SHA-256 of the plan's text
    who TEXT NOT NULL
);
CREATE TRIGGER plans_never_altered BEFORE UPDATE ON plans
BEGIN SELECT RAISE(ABORT, 'what was noted is never altered'); END;
"""

# A count that its link in the chain seals takes no row any more; the number of a removed one may be given again.
_CLOSED = "CREATE INDEX chain_by_subject ON chain (subject, first);\n" + "".join(
    f"""
CREATE TRIGGER {table}_of_sealed BEFORE INSERT ON {table}
WHEN (SELECT subject FROM chain WHERE subject IN ('count', 'removed') AND first = {count}
    ORDER BY id DESC LIMIT 1) = 'count'
BEGIN SELECT RAISE(ABORT, 'a count that is sealed takes no row'); END;
"""
    for table, count in {
        "surveys": "NEW.count_id",
        **dict.fromkeys(
            ("accounts", "account_groups", "not_seen", "packed", "shared", "seals"),
            "(SELECT count_id FROM surveys WHERE id = NEW.survey_id)",
        ),
    }.items()
)

CHAINED = 10
"""The first version whose ledgers have a chain."""

FINDINGS_SEALED = 15
"""The first version whose chain seals what was found too."""

IN_BLOCKS = 12
"""The first version that keeps the trail in blocks."""

MIGRATIONS: tuple[str, ...] = (
    *(_FIRST, _SERVICES, _SHARED, _UNTOLD, _SEALS, _JOURNAL, _FINDINGS, _REVIEWS, _NOTICES),
    *(_CHAIN, _TRAIL, _BLOCKS, _CARRIED, _PLANS, _CLOSED),
)
VERSION = len(MIGRATIONS)
