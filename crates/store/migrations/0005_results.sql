-- What jobs leave beside files: facts, numbers, test cases, findings; and results that can be taken over.

ALTER TABLE jobs ADD COLUMN facts TEXT;            -- JSON: name -> value
ALTER TABLE jobs ADD COLUMN numbers TEXT;          -- JSON: name -> sum, of
ALTER TABLE jobs ADD COLUMN reused_from TEXT;      -- PROJECT/NUMBER
ALTER TABLE jobs ADD COLUMN unwanted INTEGER NOT NULL DEFAULT 0;
-- Names all that can change its result; where it was not taken over, why not.
ALTER TABLE jobs ADD COLUMN work TEXT;
ALTER TABLE jobs ADD COLUMN not_reused TEXT;

-- Digests of the files that jobs with `reuse` name, of the run's commit. JSON: globs -> path -> digest.
ALTER TABLE runs ADD COLUMN inputs TEXT;

-- Results of passed jobs with `reuse`, the newest of each key.
CREATE TABLE reusable (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    job         TEXT NOT NULL,
    key         TEXT NOT NULL,
    parts       TEXT NOT NULL,     -- JSON: part -> value
    run_id      INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job_number  INTEGER NOT NULL,
    run         TEXT NOT NULL,     -- PROJECT/NUMBER
    facts       TEXT NOT NULL,
    numbers     TEXT NOT NULL,
    at          INTEGER NOT NULL,
    PRIMARY KEY (project_id, pipeline, job, key)
) WITHOUT ROWID;

-- Every test case that a project ever reported. Copies of a split report the same cases.
CREATE TABLE tests (
    id          INTEGER PRIMARY KEY,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    job         TEXT NOT NULL,
    suite       TEXT NOT NULL,
    name        TEXT NOT NULL,
    UNIQUE (project_id, pipeline, job, suite, name)
);

CREATE TABLE results (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    test_id  INTEGER NOT NULL REFERENCES tests(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    attempt  INTEGER NOT NULL,
    ended    TEXT NOT NULL,        -- passed, failed, skipped
    wavered  INTEGER NOT NULL,
    ms       INTEGER,
    file     TEXT,
    line     INTEGER,
    message  TEXT,
    PRIMARY KEY (run_id, test_id, job, attempt)
) WITHOUT ROWID;
CREATE INDEX results_of_test ON results(test_id, run_id);

CREATE TABLE findings (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    key      TEXT NOT NULL,
    rule     TEXT NOT NULL,
    level    TEXT NOT NULL,
    message  TEXT NOT NULL,
    file     TEXT,
    line     INTEGER,
    known    INTEGER NOT NULL,     -- the target's newest run has it too
    PRIMARY KEY (run_id, job, key)
) WITHOUT ROWID;

-- Numbers of runs that ended, for their history.
CREATE TABLE numbers (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    name        TEXT NOT NULL,
    run_id      INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    value       REAL NOT NULL,
    PRIMARY KEY (project_id, pipeline, name, run_id)
) WITHOUT ROWID;

-- Users and passwords for registries and the like, sealed as secrets are.
CREATE TABLE connections (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    name        TEXT NOT NULL,
    user        TEXT NOT NULL,
    sealed      BLOB NOT NULL,
    set_by      TEXT NOT NULL,
    set_at      INTEGER NOT NULL,
    PRIMARY KEY (project_id, name)
) WITHOUT ROWID;
