-- +goose Up
-- Who works on a task, and since when; and whether it was asked to pause or to be given up
-- meanwhile: whoever works on it looks there, wherever that is.
alter table tasks add column worker text not null default '';
alter table tasks add column since timestamptz;
alter table tasks add column asked text not null default '';

-- +goose Down
alter table tasks drop column asked, drop column since, drop column worker;
