-- The first form of everything that lasts. Times are milliseconds since 1970 in UTC. Secrets of people and runners are
-- kept as SHA-256 digests only; `hook_secret` and `forge_token` are needed in the clear to sign and to send.

CREATE TABLE projects (
    id           INTEGER PRIMARY KEY,
    name         TEXT NOT NULL UNIQUE,
    git_url      TEXT NOT NULL,
    main_branch  TEXT NOT NULL,
    hook_secret  TEXT NOT NULL,
    forge        TEXT,              -- JSON: profile, url, repository, token
    next_number  INTEGER NOT NULL DEFAULT 1,
    created_at   INTEGER NOT NULL
);

-- What happened outside, kept before it is answered. A delivery that comes twice is found by its id.
CREATE TABLE occasions (
    id           INTEGER PRIMARY KEY,
    project_id   INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    delivery     TEXT NOT NULL,
    body         TEXT NOT NULL,     -- JSON: the occasion
    received_at  INTEGER NOT NULL,
    tries        INTEGER NOT NULL DEFAULT 0,
    next_at      INTEGER NOT NULL,
    done_at      INTEGER,
    said         TEXT,              -- what the last try came to
    UNIQUE (project_id, delivery)
);
CREATE INDEX occasions_due ON occasions(next_at) WHERE done_at IS NULL;

CREATE TABLE runs (
    id            INTEGER PRIMARY KEY,
    project_id    INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    number        INTEGER NOT NULL,
    pipeline      TEXT NOT NULL,
    title         TEXT,
    state         TEXT NOT NULL,
    why           TEXT,
    commit_id     TEXT NOT NULL,
    commit_title  TEXT NOT NULL,
    commit_author TEXT NOT NULL,
    commit_time   INTEGER NOT NULL,
    branch        TEXT,
    event         TEXT NOT NULL,
    started_by    TEXT,
    plan          TEXT,             -- JSON; none for a run that could not be planned
    diagnostics   TEXT,             -- JSON list; why it could not be planned
    created_at    INTEGER NOT NULL,
    started_at    INTEGER,
    ended_at      INTEGER,
    UNIQUE (project_id, number)
);
-- The same commit and pipeline have one run, however often we are told; a run by hand is asked for anew.
CREATE UNIQUE INDEX runs_once ON runs(project_id, pipeline, commit_id) WHERE event <> 'by_hand';
CREATE INDEX runs_open ON runs(id) WHERE ended_at IS NULL;
CREATE INDEX runs_branch ON runs(project_id, branch, id);

CREATE TABLE jobs (
    run_id      INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    number      INTEGER NOT NULL,   -- its place in the plan
    state       TEXT NOT NULL,
    why         TEXT,
    attempt     INTEGER NOT NULL,
    losses      INTEGER NOT NULL,
    runner      TEXT,
    since       INTEGER NOT NULL,
    started_at  INTEGER,
    ended_at    INTEGER,
    stop_asked  TEXT,
    PRIMARY KEY (run_id, number)
) WITHOUT ROWID;

CREATE TABLE attempts (
    run_id      INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job         INTEGER NOT NULL,
    number      INTEGER NOT NULL,
    runner      TEXT NOT NULL,
    session     TEXT NOT NULL,
    slot        INTEGER NOT NULL,
    state       TEXT NOT NULL,
    why         TEXT,
    exit_code   INTEGER,
    started_at  INTEGER NOT NULL,
    ended_at    INTEGER,
    phases      TEXT NOT NULL DEFAULT '[]',  -- JSON list, in order
    PRIMARY KEY (run_id, job, number)
) WITHOUT ROWID;

CREATE TABLE artifacts (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    name     TEXT NOT NULL,
    digest   TEXT NOT NULL,
    bytes    INTEGER NOT NULL,
    files    INTEGER NOT NULL,
    PRIMARY KEY (run_id, job, name)
) WITHOUT ROWID;

-- Everything that happened to runs and jobs, in order: live updates are read from here, by id.
CREATE TABLE journal (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    run_id  INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    body    TEXT NOT NULL           -- JSON: the live event
);

-- What the outside is to be told, written with the step that caused it and sent afterwards, in order for each commit.
CREATE TABLE outbox (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    commit_id   TEXT NOT NULL,
    kind        TEXT NOT NULL,      -- status, note
    body        TEXT NOT NULL,      -- JSON
    tries       INTEGER NOT NULL DEFAULT 0,
    next_at     INTEGER NOT NULL,
    sent_at     INTEGER,
    said        TEXT
);
CREATE INDEX outbox_due ON outbox(next_at) WHERE sent_at IS NULL;

CREATE TABLE runners (
    name        TEXT PRIMARY KEY,
    credential  TEXT NOT NULL UNIQUE,
    session     TEXT,
    slots       INTEGER NOT NULL DEFAULT 0,
    labels      TEXT NOT NULL DEFAULT '[]',
    isolation   TEXT NOT NULL DEFAULT '',
    enrolled_at INTEGER NOT NULL,
    seen_at     INTEGER
) WITHOUT ROWID;

-- Tokens of people (kind user), sessions of browsers (session), and what works once (code: a sign-in link; invitation: a runner).
CREATE TABLE keys (
    digest      TEXT PRIMARY KEY,
    kind        TEXT NOT NULL,
    name        TEXT NOT NULL,
    created_at  INTEGER NOT NULL,
    ends_at     INTEGER
) WITHOUT ROWID;

-- Answers to unsafe calls that carried an Idempotency-Key.
CREATE TABLE answers (
    key         TEXT PRIMARY KEY,
    status      INTEGER NOT NULL,
    body        TEXT NOT NULL,
    created_at  INTEGER NOT NULL
) WITHOUT ROWID;
