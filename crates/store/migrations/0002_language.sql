-- The whole language: other ways to begin, pipelines kept here, and what was borrowed.

ALTER TABLE runs ADD COLUMN tag TEXT;
ALTER TABLE runs ADD COLUMN target TEXT;
-- The target's commit that a proposal was merged with, and what it offers: runners make the same merge again.
ALTER TABLE runs ADD COLUMN merged TEXT;   -- JSON: base, head

-- The same commit and pipeline have one run, whatever told us of the commit and however often. A tag stands for a commit
-- of its own: releasing what main has passed is asked for anew, once. Schedules, passed pipelines and people may begin
-- the same commit again.
DROP INDEX runs_once;
CREATE UNIQUE INDEX runs_once ON runs(project_id, pipeline, commit_id) WHERE event IN ('push', 'proposal');
CREATE UNIQUE INDEX runs_once_a_tag ON runs(project_id, pipeline, commit_id, tag) WHERE event = 'tag';

-- When each schedule of a project's main branch is next due.
CREATE TABLE schedules (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    line        TEXT NOT NULL,      -- as the file writes it
    next_at     INTEGER NOT NULL,
    PRIMARY KEY (project_id, pipeline, line)
) WITHOUT ROWID;
CREATE INDEX schedules_due ON schedules(next_at);

-- Whose passed runs begin which pipelines, as a project's main branch says: PROJECT/NAME.
CREATE TABLE listens (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    passed      TEXT NOT NULL,
    PRIMARY KEY (passed, project_id, pipeline)
) WITHOUT ROWID;

-- Which commit a tag named when it was last borrowed from: a tag that moved is told.
CREATE TABLE borrowed (
    git         TEXT NOT NULL,
    at          TEXT NOT NULL,
    commit_id   TEXT NOT NULL,
    seen_at     INTEGER NOT NULL,
    PRIMARY KEY (git, at)
) WITHOUT ROWID;

-- Pipeline files kept here instead of in the repository, with all their versions. An empty text is a removal.
CREATE TABLE stored_pipelines (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    version     INTEGER NOT NULL,
    text        TEXT NOT NULL,
    by          TEXT NOT NULL,
    message     TEXT NOT NULL,
    at          INTEGER NOT NULL,
    PRIMARY KEY (project_id, pipeline, version)
) WITHOUT ROWID;
