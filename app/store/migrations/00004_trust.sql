-- +goose Up
-- A deleted shot can be taken back for some time; its name is free at once.
alter table shots add column deleted_at timestamptz;
alter table shots drop constraint shots_show_name_key;
create unique index shots_name on shots (show, name) where deleted_at is null;
-- A revision holds the whole document, or what it changed of its parent's, as a JSON Patch
-- (RFC 6902). patched is how many bytes of patches lie between it and a whole document.
alter table revisions alter column document drop not null;
alter table revisions add column patch jsonb;
alter table revisions add column patched integer not null default 0;
-- Who made it, in which window of which browser; and which one it takes back, if it does.
alter table revisions add column author text not null default '';
alter table revisions add column client text not null default '';
alter table revisions add column browser text not null default '';
alter table revisions add column undoes integer;
update revisions set client = '*'; -- of before: anybody may take them back
-- The name that the edit had where it was made: sent again after a break it is not made twice.
alter table revisions add column edit text;
create unique index revisions_edit on revisions (shot_id, edit);
-- Who asked for it, how often it was begun, who works on it.
alter table tasks add column author text not null default '';
alter table tasks add column client text not null default '';
alter table tasks add column browser text not null default '';
alter table tasks add column attempts integer not null default 0;
alter table tasks add column reached integer not null default -1; -- how far it was when it was last begun
alter table tasks add column found text not null default '';

-- +goose Down
alter table tasks drop column found, drop column reached, drop column attempts, drop column browser, drop column client, drop column author;
drop index revisions_edit;
alter table revisions drop column edit, drop column undoes, drop column browser, drop column client, drop column author, drop column patched, drop column patch;
delete from revisions where document is null;
alter table revisions alter column document set not null;
drop index shots_name;
alter table shots drop column deleted_at;
alter table shots add unique (show, name);
