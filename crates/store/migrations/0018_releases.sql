-- Releases: what was made known, with what it rests on. They outlive their runs' artifacts' terms, which they pin.
CREATE TABLE releases (
    id           INTEGER PRIMARY KEY,
    project_id   INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    version      TEXT NOT NULL,
    title        TEXT NOT NULL,
    state        TEXT NOT NULL,         -- draft, published, withdrawn
    commit_id    TEXT NOT NULL,
    tag          TEXT NOT NULL,
    run_id       INTEGER NOT NULL,
    run          TEXT NOT NULL,         -- stations/41
    job          INTEGER NOT NULL,
    job_id       TEXT NOT NULL,
    notes        TEXT NOT NULL,         -- Markdown, as it is now
    evidence     TEXT NOT NULL,         -- JSON, version 1; never changes
    made_at      INTEGER NOT NULL,
    published_at INTEGER,
    published_by TEXT,                  -- none: a rule
    withdrawn_at INTEGER,
    withdrawn_by TEXT,
    reason       TEXT,
    told         TEXT,                  -- what became of telling the forge
    UNIQUE (project_id, version)
);
-- Every edit of notes or title; the first is as it was made.
CREATE TABLE release_edits (
    release_id INTEGER NOT NULL REFERENCES releases(id) ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    title      TEXT NOT NULL,
    notes      TEXT NOT NULL,
    by         TEXT,                    -- none: a rule
    at         INTEGER NOT NULL,
    PRIMARY KEY (release_id, number)
) WITHOUT ROWID;
-- What is fetched: artifacts of its run.
CREATE TABLE release_assets (
    release_id INTEGER NOT NULL REFERENCES releases(id) ON DELETE CASCADE,
    job        INTEGER NOT NULL,
    job_id     TEXT NOT NULL,
    name       TEXT NOT NULL,
    digest     TEXT NOT NULL,
    bytes      INTEGER NOT NULL,
    files      INTEGER NOT NULL,
    PRIMARY KEY (release_id, job, name)
) WITHOUT ROWID;
CREATE INDEX release_assets_by_digest ON release_assets(digest);
-- Jobs that passed and whose release could not be made: why.
CREATE TABLE unreleased (
    run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job    INTEGER NOT NULL,
    why    TEXT NOT NULL,
    at     INTEGER NOT NULL,
    PRIMARY KEY (run_id, job)
) WITHOUT ROWID;
