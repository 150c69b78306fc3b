-- What keeps a job out of the environment that it wants into: JSON, a list of the core's holds.
ALTER TABLE jobs ADD COLUMN holds TEXT;
-- Whether it puts back what was there before, should it fail: JSON. None: no.
ALTER TABLE jobs ADD COLUMN back TEXT;

-- Of a run that does jobs of an earlier one once more with what that made: the run (tidegauge/41), and what for.
ALTER TABLE runs ADD COLUMN from_run TEXT;
ALTER TABLE runs ADD COLUMN environment TEXT;

-- Places that software is put into. Each is one value of the core's machine.
CREATE TABLE environments (
    id         INTEGER PRIMARY KEY,
    project_id INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    name       TEXT NOT NULL,
    state      TEXT NOT NULL,       -- JSON, version 1
    wakes_at   INTEGER,             -- when time alone changes something
    made_at    INTEGER NOT NULL,
    closed_at  INTEGER,             -- of a preview that was closed
    unclosed   TEXT,                -- why a preview could not be closed the last time
    unclosed_at INTEGER,
    UNIQUE (project_id, name)
);
CREATE INDEX environments_waking ON environments(wakes_at) WHERE wakes_at IS NOT NULL;

-- All that was let into an environment. It outlives its run.
CREATE TABLE deployments (
    id             INTEGER PRIMARY KEY,
    environment_id INTEGER NOT NULL REFERENCES environments(id) ON DELETE CASCADE,
    number         INTEGER NOT NULL,    -- counted from 1 in its environment
    run_id         INTEGER NOT NULL,
    run            TEXT NOT NULL,       -- tidegauge/41
    job            INTEGER NOT NULL,
    job_id         TEXT NOT NULL,       -- ship.trial
    commit_id      TEXT NOT NULL,
    reference      TEXT NOT NULL,       -- a branch, or tag:…
    way            TEXT NOT NULL,       -- JSON
    started_by     TEXT,                -- none: a rule
    artifacts      TEXT NOT NULL,       -- JSON: digests
    words          TEXT NOT NULL,       -- JSON: approvals, as they counted
    rules_commit   TEXT NOT NULL,
    let_in_at      INTEGER NOT NULL,
    ended_at       INTEGER,
    outcome        TEXT,                -- well, untouched, failed, lost; none: it goes on
    back           INTEGER NOT NULL DEFAULT 0,  -- what was there before was put there again
    why            TEXT,
    answer         TEXT,                -- what its check got
    left_at        INTEGER,             -- when something else took its place
    trouble        TEXT,                -- what went wrong with it while it was there
    confirmed_by   TEXT,                -- of an emergency
    confirmed_at   INTEGER,
    kept           INTEGER NOT NULL DEFAULT 0,  -- it is there, or one of the last five before: its artifacts are never swept
    UNIQUE (environment_id, number)
);
CREATE INDEX deployments_of_run ON deployments(run_id, job);
-- What is there: one row an environment.
CREATE INDEX deployments_present ON deployments(environment_id) WHERE outcome = 'well' AND left_at IS NULL;

-- What is in a deployment, by digest: for tracing, and for what must have been well elsewhere.
CREATE TABLE deployed (
    digest        TEXT NOT NULL,
    deployment_id INTEGER NOT NULL REFERENCES deployments(id) ON DELETE CASCADE,
    PRIMARY KEY (digest, deployment_id)
) WITHOUT ROWID;

-- Jobs that someone lets into their environments past the rules.
CREATE TABLE emergencies (
    run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job    INTEGER NOT NULL,
    by     TEXT NOT NULL,
    reason TEXT NOT NULL,
    at     INTEGER NOT NULL,
    PRIMARY KEY (run_id, job)
) WITHOUT ROWID;

-- Attempts that put back what an earlier deployment put there: which job of which run that was.
CREATE TABLE going_back (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    attempt  INTEGER NOT NULL,
    from_run INTEGER NOT NULL,
    PRIMARY KEY (run_id, job, attempt)
) WITHOUT ROWID;
