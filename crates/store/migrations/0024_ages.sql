-- What is dropped by age: runs, and the logs of runs that stay.

-- Runs whose logs were dropped; attempts that ended later have theirs.
CREATE TABLE dropped_logs (
    run_id INTEGER PRIMARY KEY REFERENCES runs(id) ON DELETE CASCADE,
    at     INTEGER NOT NULL
) WITHOUT ROWID;

-- Old runs are looked for by when they ended, and each for what still needs it.
CREATE INDEX runs_by_end ON runs(ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX runs_from ON runs(from_run) WHERE from_run IS NOT NULL;
CREATE INDEX going_back_from ON going_back(from_run);
CREATE INDEX releases_of_run ON releases(run_id);
-- All that belongs to a run goes with it, without a look at what belongs to others.
CREATE INDEX reusable_of_run ON reusable(run_id);
CREATE INDEX published_of_run ON published(run_id);
