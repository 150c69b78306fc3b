-- Running in depth: tries, starts by hand, runs asked for again, runners that say what they have, secrets.

ALTER TABLE jobs DROP COLUMN losses;
ALTER TABLE jobs ADD COLUMN retries INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN not_before INTEGER;
ALTER TABLE jobs ADD COLUMN overtaken_by TEXT;
ALTER TABLE jobs ADD COLUMN started_by TEXT;      -- by hand, or asked for again
ALTER TABLE jobs ADD COLUMN inputs TEXT;          -- JSON; given when it was started by hand
ALTER TABLE jobs ADD COLUMN fresh INTEGER NOT NULL DEFAULT 0;

-- The number of the run that this one does once more. Such a run is asked for anew, whatever began the first.
ALTER TABLE runs ADD COLUMN again_of INTEGER;
-- How long each test file took in the past, for jobs with a `split`, as it was known when the run began: all copies
-- must share out alike. JSON: job -> file -> milliseconds.
ALTER TABLE runs ADD COLUMN shared TEXT;
DROP INDEX runs_once;
DROP INDEX runs_once_a_tag;
CREATE UNIQUE INDEX runs_once ON runs(project_id, pipeline, commit_id) WHERE event IN ('push', 'proposal') AND again_of IS NULL;
CREATE UNIQUE INDEX runs_once_a_tag ON runs(project_id, pipeline, commit_id, tag) WHERE event = 'tag' AND again_of IS NULL;

-- How long the last passed attempts of each job took: a JSON list of milliseconds, newest last.
CREATE TABLE usual (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    job         TEXT NOT NULL,
    recent      TEXT NOT NULL,
    PRIMARY KEY (project_id, pipeline, job)
) WITHOUT ROWID;

-- The same for each test file that a job's reports name.
CREATE TABLE usual_tests (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    job         TEXT NOT NULL,
    file        TEXT NOT NULL,
    recent      TEXT NOT NULL,
    PRIMARY KEY (project_id, pipeline, job, file)
) WITHOUT ROWID;

ALTER TABLE runners ADD COLUMN tools TEXT NOT NULL DEFAULT '[]';  -- JSON list: name, version
ALTER TABLE runners ADD COLUMN cores INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runners ADD COLUMN memory INTEGER NOT NULL DEFAULT 0; -- bytes
ALTER TABLE runners ADD COLUMN draining_by TEXT;
CREATE INDEX attempts_by_time ON attempts(started_at, runner);

-- Sealed with the service's key file; without that file nothing here can be read.
CREATE TABLE secrets (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    name        TEXT NOT NULL,
    sealed      BLOB NOT NULL,
    set_by      TEXT NOT NULL,
    set_at      INTEGER NOT NULL,
    PRIMARY KEY (project_id, name)
) WITHOUT ROWID;
