-- Who may get what; numbers that are given once; what can never be sent.

-- Answers under a key belong to a body as well, and those that held something secret are not kept: what was kept before goes.
DROP TABLE answers;
CREATE TABLE answers (
    key         TEXT PRIMARY KEY,
    asked       TEXT NOT NULL,      -- digest of the call's body
    status      INTEGER NOT NULL,
    body        TEXT,               -- none: it held something secret
    created_at  INTEGER NOT NULL
) WITHOUT ROWID;

-- What is named by its number elsewhere (in addresses of logs, in what is kept in memory) must never get the number of
-- something that was removed. Rows of these tables take the next number from here; a trigger refuses any other.
CREATE TABLE ids (
    of    TEXT PRIMARY KEY,
    last  INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO ids SELECT 'projects', coalesce(max(id), 0) FROM projects;
INSERT INTO ids SELECT 'runs', max(coalesce((SELECT max(id) FROM runs), 0), coalesce((SELECT max(run_id) FROM journal), 0));
INSERT INTO ids SELECT 'caches', coalesce(max(id), 0) FROM caches;
INSERT INTO ids SELECT 'tests', coalesce(max(id), 0) FROM tests;
CREATE TRIGGER projects_once AFTER INSERT ON projects BEGIN
    SELECT raise(ABORT, 'a number was given twice') WHERE NEW.id <= (SELECT last FROM ids WHERE of = 'projects');
    UPDATE ids SET last = NEW.id WHERE of = 'projects';
END;
CREATE TRIGGER runs_number_once AFTER INSERT ON runs BEGIN
    SELECT raise(ABORT, 'a number was given twice') WHERE NEW.id <= (SELECT last FROM ids WHERE of = 'runs');
    UPDATE ids SET last = NEW.id WHERE of = 'runs';
END;
CREATE TRIGGER caches_once AFTER INSERT ON caches BEGIN
    SELECT raise(ABORT, 'a number was given twice') WHERE NEW.id <= (SELECT last FROM ids WHERE of = 'caches');
    UPDATE ids SET last = NEW.id WHERE of = 'caches';
END;
CREATE TRIGGER tests_once AFTER INSERT ON tests BEGIN
    SELECT raise(ABORT, 'a number was given twice') WHERE NEW.id <= (SELECT last FROM ids WHERE of = 'tests');
    UPDATE ids SET last = NEW.id WHERE of = 'tests';
END;

-- What an invitation grants, and so what the runner made with it may have: its own word can only narrow it.
ALTER TABLE keys ADD COLUMN grants TEXT;                              -- JSON: labels, projects, outside
ALTER TABLE runners ADD COLUMN granted TEXT NOT NULL DEFAULT '[]';    -- JSON list of labels
ALTER TABLE runners ADD COLUMN projects TEXT;                         -- JSON list of names; none: all
ALTER TABLE runners ADD COLUMN outside TEXT NOT NULL DEFAULT 'no';    -- proposals from outside: no, yes, only
ALTER TABLE runners ADD COLUMN fence TEXT NOT NULL DEFAULT '';        -- what it fences jobs in with, in words
UPDATE runners SET granted = labels;

-- Where a secret goes: JSON lists of globs. All none: the main branch and tags, every pipeline.
ALTER TABLE secrets ADD COLUMN branches TEXT;
ALTER TABLE secrets ADD COLUMN tags TEXT;
ALTER TABLE secrets ADD COLUMN pipelines TEXT;
ALTER TABLE connections ADD COLUMN branches TEXT;
ALTER TABLE connections ADD COLUMN tags TEXT;
ALTER TABLE connections ADD COLUMN pipelines TEXT;

-- What is done with proposals from outside: ask, run, never.
ALTER TABLE projects ADD COLUMN outside TEXT NOT NULL DEFAULT 'ask';
-- The webhook's secret and the forge's token, sealed as secrets are. The service seals those of before when it starts.
ALTER TABLE projects ADD COLUMN sealed BLOB;
-- A run that waits for someone to allow it, and who did.
ALTER TABLE runs ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
-- A plan that could not be read back, put aside with its run.
ALTER TABLE runs ADD COLUMN unreadable TEXT;
ALTER TABLE runs ADD COLUMN allowed_by TEXT;

-- Messages that can never be accepted: why is in `said`.
ALTER TABLE outbox ADD COLUMN given_up_at INTEGER;
DROP INDEX outbox_due;
CREATE INDEX outbox_due ON outbox(next_at) WHERE sent_at IS NULL AND given_up_at IS NULL;

-- The last attempt of each job of a run, without looking at every result.
CREATE INDEX results_of_job ON results(run_id, job, attempt);
