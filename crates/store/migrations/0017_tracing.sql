-- Where things come from, and where they went.

-- What a key signs: identity (of jobs), statement (of artifacts). Of statements' keys the public halves stay for good.
ALTER TABLE signing_keys ADD COLUMN purpose TEXT NOT NULL DEFAULT 'identity';

CREATE INDEX runs_of_commit ON runs(commit_id);
CREATE INDEX artifacts_by_digest ON artifacts(digest);

-- What is said of each artifact, signed. It outlives the artifact.
CREATE TABLE statements (
    run_id    INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job       INTEGER NOT NULL,
    name      TEXT NOT NULL,
    digest    TEXT NOT NULL,        -- of the artifact, sha256:…
    payload   BLOB NOT NULL,        -- zstd: an in-toto statement
    key_id    TEXT NOT NULL,
    signature BLOB NOT NULL,
    made_at   INTEGER NOT NULL,
    PRIMARY KEY (run_id, job, name)
);
CREATE INDEX statements_by_digest ON statements(digest);

-- The files in artifacts, by what sha256sum prints.
CREATE TABLE traced_files (
    sha256 BLOB NOT NULL,
    run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job    INTEGER NOT NULL,
    name   TEXT NOT NULL,
    path   TEXT NOT NULL,
    PRIMARY KEY (sha256, run_id, job, name, path)
) WITHOUT ROWID;
CREATE INDEX traced_files_of ON traced_files(run_id);

-- What was published, by the digest that its registry knows it by.
CREATE TABLE published (
    digest  TEXT NOT NULL,
    run_id  INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job     INTEGER NOT NULL,
    name    TEXT NOT NULL,
    address TEXT NOT NULL,
    PRIMARY KEY (digest, run_id, job, address)
) WITHOUT ROWID;

-- Bills of materials. The same components are kept once, however many bills name them.
CREATE TABLE bills (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    file     TEXT NOT NULL,
    form     TEXT NOT NULL,         -- cyclonedx, spdx
    parts    TEXT NOT NULL,         -- names the components: a digest of them
    document BLOB,                  -- zstd: as the job wrote it; none once the run's artifacts are gone
    made_at  INTEGER NOT NULL,
    PRIMARY KEY (run_id, job, file)
);
CREATE INDEX bills_of_parts ON bills(parts);
CREATE TABLE components (
    name    TEXT NOT NULL,
    parts   TEXT NOT NULL,
    version TEXT NOT NULL,
    purl    TEXT,
    PRIMARY KEY (name, parts, version)
) WITHOUT ROWID;
CREATE INDEX components_of_parts ON components(parts);
