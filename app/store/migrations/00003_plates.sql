-- +goose Up
-- What plates are, as their files tell it, and how they were read.
alter table shots add column float boolean not null default false;
alter table shots add column alpha boolean not null default false;
alter table shots add column aspect double precision not null default 1;
alter table shots add column primaries text not null default 'bt709';
alter table shots add column padding integer not null default 4;
alter table shots add column timecode text not null default '';
alter table shots add column format text not null default 'PNG';
alter table shots add column reading jsonb not null default '{}';
-- Deliveries count up, and no number is given twice.
alter table shots add column deliveries integer not null default 0;
-- What a task has found so far: after an interruption it goes on from there.
alter table tasks add column partial jsonb;
alter table tasks add column version integer not null default 0;
alter table tasks add column movies text not null default '';

-- +goose Down
alter table tasks drop column movies, drop column version, drop column partial;
alter table shots drop column deliveries, drop column reading, drop column format, drop column timecode,
    drop column padding, drop column primaries, drop column aspect, drop column alpha, drop column float;
