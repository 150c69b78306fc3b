-- A secret may have a value of its own for one environment; empty: for all others.
CREATE TABLE secrets_of (
    project_id  INTEGER NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
    name        TEXT NOT NULL,
    environment TEXT NOT NULL DEFAULT '',
    sealed      BLOB NOT NULL,
    set_by      TEXT NOT NULL,
    set_at      INTEGER NOT NULL,
    branches    TEXT,
    tags        TEXT,
    pipelines   TEXT,
    PRIMARY KEY (project_id, name, environment)
) WITHOUT ROWID;
INSERT INTO secrets_of (project_id, name, sealed, set_by, set_at, branches, tags, pipelines)
    SELECT project_id, name, sealed, set_by, set_at, branches, tags, pipelines FROM secrets;
DROP TABLE secrets;
ALTER TABLE secrets_of RENAME TO secrets;
