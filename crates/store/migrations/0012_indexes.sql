-- Where a connection leads, for steps that publish by themselves.
ALTER TABLE connections ADD COLUMN address TEXT;
