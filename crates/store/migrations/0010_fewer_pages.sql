-- Events are dropped by age from the oldest on: that needs no index, which every step would have to write to.
DROP INDEX events_by_age;

-- How long runs of a pipeline usually take is asked for every run of a list.
CREATE INDEX runs_passed ON runs(project_id, pipeline, id) WHERE state = 'passed';
