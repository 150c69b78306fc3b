-- A person's word on a proposal may be given at its forge and here: each is kept on its own, so that asking the forge anew
-- takes nothing back that was said here. The later one counts.
CREATE TABLE words (
    proposal_id INTEGER NOT NULL REFERENCES proposals(id) ON DELETE CASCADE,
    who         TEXT NOT NULL,      -- as the forge calls them
    here        INTEGER NOT NULL,   -- whether it was given here
    approves    INTEGER,            -- none: taken back
    commit_id   TEXT NOT NULL,
    at          INTEGER NOT NULL,
    PRIMARY KEY (proposal_id, who, here)
) WITHOUT ROWID;
INSERT INTO words SELECT proposal_id, who, projects.forge IS NULL, approves, commit_id, at
    FROM reviews JOIN proposals ON proposals.id = proposal_id JOIN projects ON projects.id = project_id;
DROP TABLE reviews;
ALTER TABLE words RENAME TO reviews;
