-- +goose Up
-- Tables through which shots are looked at, as .cube files, by their hash; and which a show has, and a shot:
-- empty for the show's, 'none' for none.
create table cubes (
    hash       text primary key,
    name       text not null,
    data       bytea not null,
    created_at timestamptz not null default now()
);
create table show_cubes (
    show text primary key,
    cube text not null references cubes (hash)
);
alter table shots add column cube text not null default '';

-- +goose Down
alter table shots drop column cube;
drop table show_cubes;
drop table cubes;
