-- When a job began to queue for the runner that made this attempt, and the job's name: what insight reads needs no plan.
-- Attempts of before do not say when they began to queue; their names are in the plans.
ALTER TABLE attempts ADD COLUMN queued_at INTEGER;
ALTER TABLE attempts ADD COLUMN job_id TEXT;
UPDATE attempts SET job_id = named.id
    FROM (SELECT runs.id AS run, job.key AS number, job.value ->> 'id' AS id
          FROM runs, json_each(iif(json_valid(runs.plan), runs.plan, '{"jobs":[]}'), '$.jobs') AS job) AS named
    WHERE named.run = attempts.run_id AND named.number = attempts.job;
