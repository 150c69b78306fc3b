-- Events are dropped by age from the oldest on: that needs no index, which every step would have to write to.
DROP INDEX events_by_age;
