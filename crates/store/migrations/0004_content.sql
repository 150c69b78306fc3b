-- What is stored once: packs of chunks, and what points into them.

-- A pack lies under its name in the store's folder or bucket; `blocks` is the headers of its blocks, so that all chunks
-- are known without reading packs. A pack without a row is one that was on its way when the service went down.
CREATE TABLE packs (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,  -- never given twice: what was read of a pack is kept by it
    name     TEXT NOT NULL UNIQUE,
    bytes    INTEGER NOT NULL,
    sealed   INTEGER NOT NULL,
    made_at  INTEGER NOT NULL,
    blocks   BLOB NOT NULL
);

-- Artifacts name a tree. Those of before were whole archives: they are brought over when the service first starts.
ALTER TABLE artifacts ADD COLUMN tree TEXT;
-- Of the files; `bytes` was that of the packed archive and is now what was new to the store.
ALTER TABLE artifacts ADD COLUMN raw_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE artifacts ADD COLUMN content TEXT NOT NULL DEFAULT '';
ALTER TABLE artifacts ADD COLUMN kept_until INTEGER;
ALTER TABLE artifacts ADD COLUMN pinned_by TEXT;
CREATE INDEX artifacts_due ON artifacts(kept_until) WHERE pinned_by IS NULL;

-- Entries of caches. A key is written once: of two that save it, the first wins.
CREATE TABLE caches (
    id         INTEGER PRIMARY KEY,
    project_id INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    key        TEXT NOT NULL,
    tree       TEXT NOT NULL,
    files      INTEGER NOT NULL,
    raw_bytes  INTEGER NOT NULL,
    bytes      INTEGER NOT NULL,   -- what was new to the store
    run        TEXT NOT NULL,      -- PROJECT/NUMBER
    job        TEXT NOT NULL,
    saved_at   INTEGER NOT NULL,
    used_at    INTEGER NOT NULL,
    uses       INTEGER NOT NULL DEFAULT 0,
    UNIQUE (project_id, key)
);

-- What each attempt did with its caches: JSON list.
ALTER TABLE attempts ADD COLUMN caches TEXT NOT NULL DEFAULT '[]';
