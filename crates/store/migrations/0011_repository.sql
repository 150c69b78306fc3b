-- Whether a project's main branch is the one that its repository names: it is asked again where the branch is not there.
ALTER TABLE projects ADD COLUMN main_follows INTEGER NOT NULL DEFAULT 0;
