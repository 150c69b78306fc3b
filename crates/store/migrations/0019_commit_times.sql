-- When the commit that was put there was made: runs may be gone by the time that somebody asks.
ALTER TABLE deployments ADD COLUMN committed_at INTEGER;
UPDATE deployments SET committed_at = (SELECT commit_time * 1000 FROM runs WHERE runs.id = run_id AND runs.commit_id = deployments.commit_id);
CREATE INDEX deployments_ended ON deployments(environment_id, ended_at);
