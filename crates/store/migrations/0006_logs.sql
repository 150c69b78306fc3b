-- Closed segments of logs: their text lies in the store.
CREATE TABLE log_segments (
    run_id   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    job      INTEGER NOT NULL,
    attempt  INTEGER NOT NULL,
    beside   TEXT NOT NULL,     -- a helper's name; nothing for the job itself
    segment  INTEGER NOT NULL,
    chunks   BLOB NOT NULL,     -- names of chunks, 32 bytes each
    places   BLOB NOT NULL,     -- offsets, lines and times, packed
    PRIMARY KEY (run_id, job, attempt, beside, segment)
);
