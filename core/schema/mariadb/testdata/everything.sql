-- One of everything that is tracked.
create sequence ticket start with 100 increment by 5 cache 20;
create table keeper (
  id int unsigned auto_increment primary key,
  name varchar(80) not null collate utf8mb4_bin comment 'it''s \\ theirs',
  badge char(5) character set latin1 default 'B-1',
  `Strange ``name``;--` tinyint(1) not null default -1,
  boss int unsigned,
  unique key by_name (name),
  constraint keeper_boss foreign key (boss) references keeper (id) on delete set null
) engine=InnoDB auto_increment=7 comment='People; of the house';
create table tank (
  id bigint auto_increment primary key,
  code varchar(20) not null,
  depth decimal(8,2) default 1.5 check (depth > 0),
  mood enum('calm','it''s hungry','a,b') default 'calm',
  colours set('red','blue') not null default 'red,blue',
  width int not null default 2,
  area int generated always as (width * 3) stored,
  label varchar(40) as (concat(code, '!')) virtual,
  photo longblob,
  notes text invisible,
  extra json,
  place point not null,
  opened timestamp not null default current_timestamp on update current_timestamp,
  closed timestamp null,
  at datetime(3) default null,
  bits bit(3) default b'101',
  keeper int unsigned,
  constraint tank_code check (code <> ''),
  key short (code(3) desc, depth),
  fulltext key words (notes),
  spatial key there (place),
  constraint tank_keeper foreign key (keeper) references keeper (id) on delete cascade on update restrict
) row_format=compressed key_block_size=8 default charset=utf8mb4 collate=utf8mb4_unicode_ci;
create table reading (tank bigint not null, at date not null, value double, primary key (tank, at)) partition by range (year(at)) (partition p2024 values less than (2025) comment 'old', partition rest values less than maxvalue);
create table spread (id int primary key) partition by hash (id) partitions 4;
create table kept (id int primary key, v int, w int without system versioning) with system versioning;
create table old_one (id int, v text) engine=MyISAM checksum=1 default charset=latin1;
create table `Käfig; drop table x; --` (`a``b` int, `line
break` text, `select` int, `水槽` text, primary key (`a``b`));
create view busy as select k.name, count(*) as tanks from keeper k join tank t on t.keeper = k.id group by k.id having tanks > 0 order by k.name;
create algorithm=merge sql security invoker view simple as select id, code from tank where code like 'A%' with local check option;
create view aaa as select * from busy where tanks > 1 union select 'x', 1;
create function total(a int, b varchar(10)) returns varchar(20) charset utf8mb4 deterministic return concat(a + 1, b);
delimiter //
create procedure close_day(in day date, out n int)
  comment 'ends it; all'
  sql security invoker
begin
  -- counts; and "more"
  declare c cursor for select count(*) from tank;
  if day is null then
    set n = 0;
  else
    open c; fetch c into n; close c;
  end if;
  case when n > 1 then set n = 1; else begin end; end case;
end//
create trigger touch before update on tank for each row begin set new.width = new.width + 1; set new.code = upper(new.code); end//
create trigger touch_too before update on tank for each row set new.width = 3//
delimiter ;
create event nightly on schedule every 1 day starts '2026-01-01 03:00:00' on completion preserve disable comment 'cleans' do delete from tank where id < 0;
set sql_mode = 'ANSI_QUOTES';
create function ansi() returns int no sql return 1;
create trigger first_mode before insert on kept for each row set new.v = 1;
set sql_mode = 'STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION';
create trigger usual_mode after insert on kept for each row set @n = 1;
set character_set_client = latin1, collation_connection = latin1_german2_ci;
create view swedish as select 'x' = 'X' as same;
create function session_too() returns int no sql return 'a' = 'A';
create trigger session_trigger after delete on kept for each row set @n = 2;
create event session_event on schedule every 1 day starts '2026-01-01 03:00:00' disable do set @n = 3;
set character_set_client = utf8mb4, collation_connection = utf8mb4_unicode_ci;
create trigger usual_session before delete on kept for each row set @n = 'Käfig';
create view unicode as select 'Straße' = 'strasse' as same;
set collation_connection = utf8mb4_general_ci;
create trigger usual_again before update on kept for each row set new.v = 3;
