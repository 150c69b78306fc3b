-- Commits in their order, and repositories that could not be read.

-- The newest commit of each branch (`push BRANCH`) and proposal (`proposal SOURCE into TARGET`) that was looked at, and
-- the number of the occasion that told of it.
CREATE TABLE heads (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    of          TEXT NOT NULL,
    commit_id   TEXT NOT NULL,
    arrived     INTEGER NOT NULL,
    PRIMARY KEY (project_id, of)
) WITHOUT ROWID;

-- It was tried until nobody would wait longer; told again, it is tried again.
ALTER TABLE occasions ADD COLUMN gave_up INTEGER NOT NULL DEFAULT 0;
-- A run that only says that its commit could not be read: the occasion to read once more. It stands in no other's way.
ALTER TABLE runs ADD COLUMN unread INTEGER;
DROP INDEX runs_once;
DROP INDEX runs_once_a_tag;
CREATE UNIQUE INDEX runs_once ON runs(project_id, pipeline, commit_id)
    WHERE event IN ('push', 'proposal') AND again_of IS NULL AND unread IS NULL;
CREATE UNIQUE INDEX runs_once_a_tag ON runs(project_id, pipeline, commit_id, tag)
    WHERE event = 'tag' AND again_of IS NULL AND unread IS NULL;
-- A newer commit was looked at before this one: the run (`PROJECT/NUMBER`) that makes it pointless, or nothing where
-- there is none. Absent: it was the newest.
ALTER TABLE runs ADD COLUMN behind TEXT;
-- How long, between its start and its end, the run had ended already: someone brought it back later. It went on for
-- `ended_at - started_at - rest_ms`.
ALTER TABLE runs ADD COLUMN rest_ms INTEGER NOT NULL DEFAULT 0;
