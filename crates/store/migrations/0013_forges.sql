-- What forges send and offer: deliveries, proposals, reviews, and what branches and tags were seen at.

-- Kept as they came, for a week: how each was read, and what came of it.
CREATE TABLE deliveries (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    at          INTEGER NOT NULL,
    given       TEXT,               -- what the forge, or its body's digest, names it
    state       TEXT NOT NULL,      -- taken, nothing, unread, refused
    said        TEXT,               -- why nothing came of it, or what was missing
    events      TEXT NOT NULL,      -- JSON list: what was read, in words
    work        TEXT NOT NULL,      -- JSON list: the work that it led to
    times       INTEGER NOT NULL DEFAULT 1,     -- how often it came
    address     TEXT,
    headers     TEXT NOT NULL,      -- JSON, without secrets
    size        INTEGER NOT NULL,   -- of the body, in bytes
    body        BLOB NOT NULL       -- zstd
);
CREATE INDEX deliveries_of ON deliveries(project_id, id);
CREATE INDEX deliveries_given ON deliveries(project_id, given) WHERE given IS NOT NULL;
CREATE INDEX deliveries_by_age ON deliveries(at);

-- Proposals as forges tell of them. `number` is what the forge calls it.
CREATE TABLE proposals (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    number      TEXT NOT NULL,
    title       TEXT NOT NULL,
    target      TEXT NOT NULL,
    source      TEXT,
    head        TEXT NOT NULL,
    author      TEXT,
    outside     INTEGER NOT NULL,
    draft       INTEGER NOT NULL,
    link        TEXT,
    state       TEXT NOT NULL,      -- open, closed, landed
    offered_at  INTEGER NOT NULL,
    changed_at  INTEGER NOT NULL,
    ended_at    INTEGER,
    landed_as   TEXT,
    comment     TEXT,               -- what the forge calls the one comment that is rewritten
    UNIQUE (project_id, number)
);
CREATE INDEX proposals_open ON proposals(project_id) WHERE state = 'open';
-- Who approved or refused a proposal, at which commit; a person's last word counts.
CREATE TABLE reviews (
    proposal_id INTEGER NOT NULL REFERENCES proposals(id) ON DELETE CASCADE,
    who         TEXT NOT NULL,      -- as the forge calls them
    approves    INTEGER NOT NULL,
    commit_id   TEXT NOT NULL,
    at          INTEGER NOT NULL,
    PRIMARY KEY (proposal_id, who)
) WITHOUT ROWID;

-- Where branches and tags were when something was last told or found of them: what polling compares with.
CREATE TABLE refs_seen (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    name        TEXT NOT NULL,      -- refs/heads/… or refs/tags/…
    commit_id   TEXT NOT NULL,
    PRIMARY KEY (project_id, name)
) WITHOUT ROWID;

ALTER TABLE projects ADD COLUMN poll_ms INTEGER;    -- how often it is looked at; none: as its forge needs
ALTER TABLE projects ADD COLUMN looked_at INTEGER;  -- when it was last looked at with success
ALTER TABLE projects ADD COLUMN found TEXT;         -- what polling found that no hook told, in words
ALTER TABLE projects ADD COLUMN badge_key TEXT NOT NULL DEFAULT '';   -- whoever has it sees badges, and nothing else
UPDATE projects SET badge_key = lower(hex(randomblob(12)));
ALTER TABLE runs ADD COLUMN proposal TEXT;          -- the proposal's number
CREATE INDEX runs_of_proposal ON runs(project_id, proposal) WHERE proposal IS NOT NULL;

-- The landing queues of branches: each is one value of the core's, as JSON.
CREATE TABLE landings (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    branch      TEXT NOT NULL,
    state       TEXT NOT NULL,
    PRIMARY KEY (project_id, branch)
) WITHOUT ROWID;
-- What landed or left.
CREATE TABLE landing_ends (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    branch      TEXT NOT NULL,
    proposal    TEXT NOT NULL,
    head        TEXT NOT NULL,
    commit_id   TEXT,           -- what it landed as
    why         TEXT,           -- why it left
    at          INTEGER NOT NULL
);
CREATE INDEX landing_ends_of ON landing_ends(project_id, id);
ALTER TABLE runs ADD COLUMN trial INTEGER;      -- of the landing queue of its target
CREATE INDEX runs_of_trial ON runs(project_id, target, trial) WHERE trial IS NOT NULL;
