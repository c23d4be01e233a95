-- +goose Up
create table shots (
    id          text primary key,
    show        text not null,
    name        text not null,
    source      text not null,
    first       integer not null,
    last        integer not null,
    width       integer not null,
    height      integer not null,
    depth       integer not null,
    rate_num    integer not null,
    rate_den    integer not null,
    transfer    text not null,
    state       text not null,
    problem     text not null default '',
    head        integer not null default 0,
    tip         integer not null default 0, -- the highest revision number given out
    created_at  timestamptz not null default now(),
    unique (show, name)
);

-- Revision 0 is the empty treatment. head is the one in force; undo moves it to
-- its parent. next is the child that redo goes to.
create table revisions (
    shot_id     text not null references shots on delete cascade,
    number      integer not null,
    parent      integer,
    next        integer,
    label       text not null,
    document    jsonb not null,
    created_at  timestamptz not null default now(),
    primary key (shot_id, number)
);

create table artifacts (
    sha256      text primary key,
    content     bytea not null,
    created_at  timestamptz not null default now()
);

create table tasks (
    id          text primary key,
    shot_id     text not null references shots on delete cascade,
    kind        text not null,
    title       text not null,
    subject     text not null default '',
    state       text not null,
    done        integer not null default 0,
    total       integer not null default 0,
    rate        double precision not null default 0,
    problem     text not null default '',
    detail      jsonb not null default '{}',
    job_id      bigint not null default 0,
    created_at  timestamptz not null default now(),
    ended_at    timestamptz
);
create index on tasks (shot_id, created_at);

-- +goose Down
drop table tasks;
drop table artifacts;
drop table revisions;
drop table shots;
