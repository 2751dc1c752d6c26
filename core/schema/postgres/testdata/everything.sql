-- One of everything that is tracked.
create extension if not exists btree_gist with schema public;
create schema care;
comment on schema care is 'What keepers do';
create type care.mood as enum ('calm', 'it''s hungry', 'angry');
comment on type care.mood is 'how it feels';
create type care.size as (width numeric(6,2), "Height" numeric, label text collate "C");
comment on column care.size.width is 'in metres';
create domain care.depth as numeric(8,2) default 1.5 not null constraint positive check (value > 0) check (value < 12000);
comment on constraint positive on domain care.depth is 'no tank is flat';
create type care.span as range (subtype = numeric, multirange_type_name = care.spans);
create collation care.plain (provider = libc, locale = 'C');
create sequence care.ticket as integer start with 100 increment by 5 maxvalue 100000 cache 3 cycle;
comment on sequence care.ticket is 'numbers on tickets';
create function care.next_label(prefix text default 'T-', out label text) language plpgsql stable as $$ begin label := prefix || nextval('care.ticket'); end $$;
create table care.keeper (
  id integer generated always as identity (start with 10 increment by 2),
  name text not null collate care.plain,
  badge text default care.next_label('B'),
  "Strange ""name"";--" smallint default '-1'::integer,
  boss integer,
  primary key (id),
  constraint keeper_name unique (name) deferrable initially deferred
) with (fillfactor = 80, autovacuum_enabled = false, toast.autovacuum_enabled = false);
alter table care.keeper add foreign key (boss) references care.keeper (id) on delete set null not valid;
create table care.tank (
  id bigserial primary key,
  code text not null,
  depth care.depth,
  mood care.mood default 'calm',
  size care.size,
  area numeric generated always as ((size).width * (size)."Height") stored,
  photo bytea,
  notes text,
  keeper integer references care.keeper,
  opened timestamp with time zone default (now() at time zone 'utc'),
  tags text[] default '{}'::text[] not null,
  check (code <> '' and code is not null),
  exclude using gist (keeper with =, opened with =) where (keeper is not null)
);
alter table care.tank alter column photo set storage external;
alter table care.tank alter column notes set statistics 500;
alter table care.tank alter column notes set (n_distinct = -0.5);
comment on table care.tank is E'All tanks\nof the \\house';
comment on column care.tank.code is 'painted on it';
create index tank_lower on care.tank (lower(code) collate "C" desc nulls last) include (depth) where mood <> 'angry';
create unique index tank_code on care.tank (code text_pattern_ops);
create index tank_tags on care.tank using gin (tags) with (fastupdate = off);
comment on index care.tank_tags is 'for the search';
alter index care.tank_lower alter column 1 set statistics 300;
alter table care.tank cluster on tank_code;
alter table care.tank replica identity using index tank_code;
create statistics care.tank_stats (ndistinct, dependencies) on code, mood from care.tank;
alter statistics care.tank_stats set statistics 50;
comment on statistics care.tank_stats is 'they hang together';
create unlogged table care.scratchpad ();
create table care.part (like care.tank including all);
create table care.reading (tank bigint not null, at timestamptz not null default now(), value double precision, constraint warm check (value > -5)) partition by range (at);
create table care.reading_2025 partition of care.reading for values from ('2025-01-01') to ('2026-01-01');
create table care.reading_2026 partition of care.reading (value default 4.5, constraint never check (value < 1000)) for values from ('2026-01-01') to ('2027-01-01') partition by list (tank);
create table care.reading_2026_a partition of care.reading_2026 for values in (1, 2);
create table care.reading_rest partition of care.reading default;
alter table care.reading add primary key (tank, at);
create index reading_value on care.reading (value);
alter index care.reading_2025_value_idx rename to strange_index;
alter table care.reading add constraint reading_tank foreign key (tank) references care.tank;
create table care.parent (id int primary key, kind text default 'a' not null, constraint parent_kind check (kind <> ''));
create table care.child (extra text, constraint extra_short check (length(extra) < 10)) inherits (care.parent);
alter table care.child alter column kind set default 'b';
create table care.typed of care.size (width with options default 1);
create view care.busy with (security_barrier = true) as select k.name, count(*) as tanks, max(t.depth) as deepest from care.keeper k join care.tank t on t.keeper = k.id group by k.id;
comment on view care.busy is 'who has much to do';
comment on column care.busy.tanks is 'how many';
create view care.busiest as select * from care.busy where tanks > 1 with local check option;
create view care.simple as select id, code from care.tank where code like 'A%' with check option;
alter view care.simple alter column code set default 'A0';
create materialized view care.summary with (fillfactor = 90) as select mood, count(*) as n from care.tank group by mood with no data;
create unique index summary_mood on care.summary (mood);
comment on materialized view care.summary is 'counted each night';
create function care.touch() returns trigger language plpgsql security definer set search_path = care, pg_temp set work_mem = '8MB' cost 50 as $body$
begin
  new.opened := now();  -- "$$" is here
  return new;
end;
$body$;
comment on function care.touch() is 'keeps the time';
create function care.total(a integer, variadic b integer[] default '{}') returns bigint language sql immutable parallel safe strict return a + (select coalesce(sum(x), 0) from unnest(b) x);
create function care.total(a text) returns setof care.tank language sql stable rows 10 begin atomic select * from care.tank where code = a; select * from care.tank where case when a is null then true else false end; end;
create function care.both(inout a integer, out b double precision, in c character varying = 'x''y') language sql as 'select 1, 2.0::float8';
create function care.listed() returns table (id bigint, code text) language sql as 'select id, code from care.tank';
create procedure care.close_day(day date, in loud boolean default false) language plpgsql as $$ begin commit; end $$;
create trigger touch before insert or update of code, depth on care.tank for each row when (new.code is not null) execute function care.touch();
create trigger audit after update on care.tank referencing old table as before new table as after for each statement execute function care.touch();
create constraint trigger late after insert on care.tank deferrable initially deferred for each row execute function care.touch();
alter table care.tank disable trigger audit;
alter table care.tank enable always trigger late;
comment on trigger touch on care.tank is 'sets opened';
create rule quiet as on delete to care.simple do instead (update care.tank set notes = 'gone' where id = old.id; notify tank);
alter table care.tank enable row level security;
create policy own on care.tank as restrictive for select to public using (keeper = 1 or mood = 'calm'::care.mood);
create policy writes on care.tank for insert with check (keeper is not null);
comment on policy own on care.tank is 'only their own';
create function care.add_up(numeric, numeric) returns numeric language sql immutable as 'select coalesce($1, 0) + coalesce($2, 0)';
create aggregate care.sum_up(numeric) (sfunc = care.add_up, stype = numeric, initcond = '0', combinefunc = care.add_up, parallel = safe);
create aggregate care.worst(float8 order by anyelement) (sfunc = ordered_set_transition, stype = internal, finalfunc = percentile_disc_final, finalfunc_extra);
create function care.alike(care.mood, care.mood) returns boolean language sql immutable as 'select $1::text = $2::text';
create operator care.=~= (leftarg = care.mood, rightarg = care.mood, function = care.alike, commutator = operator(care.=~=));
comment on operator care.=~= (care.mood, care.mood) is 'alike';
create function care.order_mood(care.mood, care.mood) returns integer language sql immutable as 'select 0';
create operator class care.mood_ops for type care.mood using btree as operator 3 care.=~=, function 1 care.order_mood(care.mood, care.mood);
create function care.mood_of(text) returns care.mood language sql immutable as 'select $1::care.mood';
create cast (text as care.mood) with function care.mood_of(text) as assignment;
create text search dictionary care.stems (template = snowball, language = english, stopwords = english);
create text search configuration care.words (copy = pg_catalog.simple);
alter text search configuration care.words alter mapping for asciiword with care.stems, simple;
create foreign data wrapper paper;
create server shelf type 'wood' version '2' foreign data wrapper paper options (place 'cellar');
create foreign table care.old_book (id integer options (page '1') not null, line text) server shelf options (room '3');
create publication everything for table care.tank (id, code) where (id > 3), care.keeper with (publish = 'insert, update');
create function care.noticed() returns event_trigger language plpgsql as $$ begin null; end $$;
create event trigger noticed on ddl_command_end when tag in ('CREATE TABLE', 'DROP TABLE') execute function care.noticed();
alter event trigger noticed disable;
create table public."Käfig; drop table x; --" ("a""b" int, "line
break" text, "SELECT" int, 水槽 text, check ("a""b" > 0));
create index "in.dex" on public."Käfig; drop table x; --" ("line
break");
create function public."f(x, ""y"")"("a b" int) returns int language sql as 'select 1';
comment on function public."f(x, ""y"")"(int) is 'odd';
create table public.serials (id serial primary key, small smallserial, at date default current_date);
