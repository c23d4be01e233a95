-- +goose Up
-- What a task found out, where that is not part of a treatment.
alter table tasks add column result jsonb;

-- +goose Down
alter table tasks drop column result;
