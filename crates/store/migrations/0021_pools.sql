-- Runners that are made when jobs queue: what pools there are, and every machine that was ever wanted.
CREATE TABLE pools (
    name      TEXT PRIMARY KEY,
    -- JSON, as it was set.
    settings  TEXT NOT NULL,
    -- Set in the service's configuration, not by a person.
    from_file INTEGER NOT NULL,
    -- It makes no more machines, and goes with its last one.
    ended     INTEGER NOT NULL DEFAULT 0,
    -- JSON: what a machine of these settings was found to offer.
    found     TEXT,
    set_by    TEXT NOT NULL,
    set_at    INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE machines (
    id        TEXT PRIMARY KEY,
    pool      TEXT NOT NULL,
    stage     TEXT NOT NULL,
    wanted_at INTEGER NOT NULL,
    gone_at   INTEGER,
    -- JSON: all of it.
    machine   TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX machines_there ON machines(wanted_at) WHERE gone_at IS NULL;
CREATE INDEX machines_gone ON machines(gone_at) WHERE gone_at IS NOT NULL;
-- An invitation that only the machine of this name can use.
ALTER TABLE keys ADD COLUMN machine TEXT;
ALTER TABLE runners ADD COLUMN gpus INTEGER NOT NULL DEFAULT 0;
-- What tells this service from others: words that are chosen once.
CREATE TABLE marks (
    name TEXT PRIMARY KEY,
    word TEXT NOT NULL
) WITHOUT ROWID;
