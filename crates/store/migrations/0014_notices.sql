-- Comments on proposals, statuses of jobs, notices, and rules that the service keeps.

ALTER TABLE proposals ADD COLUMN comment_text TEXT;     -- what the one comment says
ALTER TABLE proposals ADD COLUMN comment_head TEXT;     -- the commit that it speaks of
ALTER TABLE proposals ADD COLUMN answers TEXT NOT NULL DEFAULT '[]';    -- JSON list: the last commands in comments, answered
ALTER TABLE projects ADD COLUMN rules TEXT NOT NULL DEFAULT '';         -- what holds besides the main branch's own rules

-- The states of jobs that their commits were told.
CREATE TABLE told_jobs (
    run_id      INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job         INTEGER NOT NULL,
    state       TEXT NOT NULL,
    PRIMARY KEY (run_id, job)
) WITHOUT ROWID;

-- Whether a pipeline is broken on the main branch, as far as people were told.
CREATE TABLE turns (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    pipeline    TEXT NOT NULL,
    state       TEXT NOT NULL,      -- JSON: the core's, version 1
    PRIMARY KEY (project_id, pipeline)
) WITHOUT ROWID;

-- What persons want to be told. Without a project: what holds for all that have no line of their own.
CREATE TABLE choices (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    person_id   INTEGER NOT NULL REFERENCES persons(id) ON DELETE CASCADE,
    project_id  INTEGER REFERENCES projects(id) ON DELETE CASCADE,
    choice      TEXT NOT NULL       -- JSON: the core's, version 1
);
CREATE UNIQUE INDEX choices_of ON choices(person_id, coalesce(project_id, 0));
ALTER TABLE persons ADD COLUMN notice_key TEXT NOT NULL DEFAULT '';     -- whoever has it ends their notices, and nothing else
UPDATE persons SET notice_key = lower(hex(randomblob(16)));

-- What was told to whom, for a while.
CREATE TABLE notices (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    person_id   INTEGER REFERENCES persons(id) ON DELETE CASCADE,   -- none: to an address of the project
    receiver    TEXT NOT NULL,      -- a mail address, or the address of a webhook
    name        TEXT,               -- the [notice.NAME] that it is for
    occasion    TEXT NOT NULL,
    body        TEXT NOT NULL,      -- JSON: the core's, version 1
    at          INTEGER NOT NULL,
    state       TEXT NOT NULL,      -- waiting, sent, given up
    ended_at    INTEGER,
    said        TEXT
);
CREATE INDEX notices_to ON notices(receiver, state, ended_at);
CREATE INDEX notices_of ON notices(project_id, id);
CREATE INDEX notices_by_age ON notices(at);
