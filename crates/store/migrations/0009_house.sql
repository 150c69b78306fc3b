-- One transaction with a name under it: events, work and the journal; persons, groups and their rights.

-- What happens to runs and jobs, in order: live updates and reactions read from here, each from its own place.
ALTER TABLE journal RENAME TO events;
ALTER TABLE events ADD COLUMN detail TEXT;      -- of a run's own events: JSON, what reactions need
CREATE INDEX events_of_runs ON events(id) WHERE detail IS NOT NULL;
CREATE INDEX events_by_age ON events(at);

-- How far each reaction has read. What happened before this version was told by the version before.
CREATE TABLE cursors (
    name      TEXT PRIMARY KEY,
    event_id  INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO cursors SELECT name, coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'events'), 0)
    FROM (SELECT 'status' AS name UNION SELECT 'note' UNION SELECT 'passed');

-- Everything that is to be done outside. Of each lane the oldest row goes first; `once` finds what is told twice.
CREATE TABLE work (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    kind        TEXT NOT NULL,      -- occasion, status, note
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    lane        TEXT NOT NULL,      -- what must stay in order: a commit's statuses; nothing for a project's occasions
    once        TEXT,
    body        TEXT NOT NULL,      -- JSON
    state       TEXT NOT NULL DEFAULT 'waiting',    -- waiting, done, given up
    tries       INTEGER NOT NULL DEFAULT 0,
    added_at    INTEGER NOT NULL,
    next_at     INTEGER NOT NULL,
    ended_at    INTEGER,
    said        TEXT                -- the result of the last try, in words
);
-- Numbers are kept: `heads` and runs name occasions by them.
INSERT INTO work (id, kind, project_id, lane, once, body, state, tries, added_at, next_at, ended_at, said)
    SELECT id, 'occasion', project_id, '', delivery, body,
        CASE WHEN gave_up THEN 'given up' WHEN done_at IS NULL THEN 'waiting' ELSE 'done' END,
        tries, received_at, next_at, done_at, said
    FROM occasions ORDER BY id;
INSERT INTO work (kind, project_id, lane, body, state, tries, added_at, next_at, ended_at, said)
    SELECT kind, project_id, commit_id, body, iif(given_up_at IS NULL, 'waiting', 'given up'), tries, next_at, next_at, given_up_at, said
    FROM outbox WHERE sent_at IS NULL ORDER BY id;
DROP TABLE occasions;
DROP TABLE outbox;
CREATE UNIQUE INDEX work_once ON work(project_id, kind, once) WHERE once IS NOT NULL;
CREATE INDEX work_waiting ON work(kind, project_id, lane, id) WHERE state = 'waiting';
CREATE INDEX work_due ON work(next_at) WHERE state = 'waiting';
CREATE INDEX work_given_up ON work(id) WHERE state = 'given up';
CREATE INDEX work_ended ON work(ended_at) WHERE state <> 'waiting';

CREATE TABLE persons (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,    -- never given twice
    name      TEXT NOT NULL UNIQUE,
    mail      TEXT,
    added_at  INTEGER NOT NULL
);
-- How a person is known elsewhere: the subject at an OpenID Connect issuer, the login at a forge.
CREATE TABLE identities (
    issuer     TEXT NOT NULL,
    subject    TEXT NOT NULL,
    person_id  INTEGER NOT NULL REFERENCES persons(id) ON DELETE CASCADE,
    added_at   INTEGER NOT NULL,
    PRIMARY KEY (issuer, subject)
) WITHOUT ROWID;
CREATE INDEX identities_of ON identities(person_id);
CREATE TABLE groups (
    name      TEXT PRIMARY KEY,
    added_at  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE members (
    group_name  TEXT NOT NULL REFERENCES groups(name) ON DELETE CASCADE,
    person_id   INTEGER NOT NULL REFERENCES persons(id) ON DELETE CASCADE,
    PRIMARY KEY (group_name, person_id)
) WITHOUT ROWID;
CREATE INDEX members_of ON members(person_id);
-- A role of a person or a group, on one project or on the service.
CREATE TABLE grants (
    id          INTEGER PRIMARY KEY,
    person_id   INTEGER REFERENCES persons(id) ON DELETE CASCADE,
    group_name  TEXT REFERENCES groups(name) ON DELETE CASCADE,
    project_id  INTEGER REFERENCES projects(id) ON DELETE CASCADE,
    role        TEXT NOT NULL,
    given_by    TEXT NOT NULL,
    given_at    INTEGER NOT NULL,
    CHECK ((person_id IS NULL) <> (group_name IS NULL))
);
CREATE UNIQUE INDEX grants_once ON grants(coalesce(person_id, 0), coalesce(group_name, ''), coalesce(project_id, 0));
CREATE INDEX grants_of_person ON grants(person_id);
CREATE INDEX grants_of_group ON grants(group_name);
CREATE INDEX grants_of_project ON grants(project_id);
-- For programs. Only digests are here.
CREATE TABLE tokens (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    person_id  INTEGER NOT NULL REFERENCES persons(id) ON DELETE CASCADE,
    name       TEXT NOT NULL,
    digest     TEXT NOT NULL UNIQUE,
    role       TEXT,                -- no more than this
    projects   TEXT,                -- JSON list: nothing outside of these
    made_at    INTEGER NOT NULL,
    ends_at    INTEGER,
    used_at    INTEGER
);
CREATE INDEX tokens_of ON tokens(person_id);
CREATE TABLE sessions (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    person_id  INTEGER NOT NULL REFERENCES persons(id) ON DELETE CASCADE,
    digest     TEXT NOT NULL UNIQUE,
    agent      TEXT NOT NULL,       -- what the browser calls itself
    address    TEXT,
    made_at    INTEGER NOT NULL,
    used_at    INTEGER NOT NULL,
    ends_at    INTEGER NOT NULL     -- however often it is used
);
CREATE INDEX sessions_of ON sessions(person_id);
-- Tokens that jobs asked for with `allows`, good while their attempt goes on.
CREATE TABLE job_tokens (
    digest   TEXT PRIMARY KEY,
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    attempt  INTEGER NOT NULL,
    allows   TEXT NOT NULL          -- JSON list
) WITHOUT ROWID;
CREATE INDEX job_tokens_of ON job_tokens(run_id, job);
-- With these the service signs what jobs show as their identity. Sealed; the public half is a JWK.
CREATE TABLE signing_keys (
    id       TEXT PRIMARY KEY,
    sealed   BLOB NOT NULL,
    public   TEXT NOT NULL,
    made_at  INTEGER NOT NULL
) WITHOUT ROWID;

-- Whoever had a token was the owner. The first person takes over the tokens and sessions.
INSERT INTO persons (name, added_at) SELECT name, min(created_at) FROM keys WHERE kind = 'user' GROUP BY name;
INSERT INTO grants (person_id, role, given_by, given_at) SELECT id, 'owner', '', added_at FROM persons;
INSERT INTO tokens (person_id, name, digest, made_at, ends_at)
    SELECT persons.id, 'first', digest, created_at, ends_at FROM keys JOIN persons ON persons.name = keys.name WHERE kind = 'user';
INSERT INTO sessions (person_id, digest, agent, made_at, used_at, ends_at)
    SELECT persons.id, digest, '', created_at, max(created_at, ends_at - 2592000000), ends_at FROM keys
    JOIN persons ON persons.name = keys.name WHERE kind = 'session' AND ends_at IS NOT NULL;
DELETE FROM keys WHERE kind IN ('user', 'session');
ALTER TABLE projects ADD COLUMN seen TEXT NOT NULL DEFAULT 'all';   -- by whom: all, granted, public

-- Who did what. Each row holds the digest of the one before, so that a row that was changed or taken out is found.
CREATE TABLE journal (
    id        INTEGER PRIMARY KEY,      -- 1, 2, 3 and so on, without a gap
    at        INTEGER NOT NULL,
    kind      TEXT NOT NULL,            -- person, runner, job, service, nobody
    who       TEXT NOT NULL,
    who_id    INTEGER,
    way       TEXT NOT NULL,            -- console, client, api, hook, comment, rule
    address   TEXT,
    action    TEXT NOT NULL,
    project   TEXT,
    object    TEXT NOT NULL,
    refused   TEXT,                     -- why it was refused; none: it was done
    before    TEXT,                     -- JSON
    after     TEXT,                     -- JSON
    previous  TEXT NOT NULL,
    digest    TEXT NOT NULL
);
CREATE INDEX journal_of_project ON journal(project, id);
CREATE INDEX journal_by ON journal(who, id);
CREATE INDEX journal_of_action ON journal(action, id);
INSERT INTO ids VALUES ('journal', 0);
CREATE TRIGGER journal_stays BEFORE UPDATE ON journal BEGIN SELECT raise(ABORT, 'the journal is append only'); END;
CREATE TRIGGER journal_is_whole BEFORE DELETE ON journal BEGIN SELECT raise(ABORT, 'the journal is append only'); END;

-- The run that another is compared with is looked for from the newest back, branch by branch.
CREATE INDEX runs_of_pipeline ON runs(project_id, pipeline, branch, id);
CREATE INDEX numbers_of_run ON numbers(run_id);
CREATE INDEX answers_by_age ON answers(created_at);
