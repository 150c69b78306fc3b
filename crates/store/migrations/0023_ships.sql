-- How much of each attempt's log has arrived where logs are sent.
CREATE TABLE ships (
    target  TEXT NOT NULL,
    run_id  INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job     INTEGER NOT NULL,
    attempt INTEGER NOT NULL,
    -- So many lines have arrived.
    lines   INTEGER NOT NULL DEFAULT 0,
    -- The attempt has ended, and all of its log has arrived.
    done    INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (target, run_id, job, attempt)
) WITHOUT ROWID;
CREATE INDEX ships_open ON ships(target, run_id) WHERE done = 0;
CREATE INDEX ships_of_run ON ships(run_id);
