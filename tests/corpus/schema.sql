-- Definitions for restaging what the logs have, with all that rows made up for it must respect.
create table harbour (code char(3) primary key, name varchar(40) not null, opened date not null);
create table berth (
  id int primary key, vessel varchar(90), moved int default 0, harbour char(3) not null references harbour (code),
  length_m decimal(6,2) not null check (length_m > 10), kind varchar(8) not null, twice int generated always as (id * 2) stored,
  unique (vessel, moved)
);
create table crate (
  id int primary key, berth int not null, kg int default 0, "order" int not null,
  foreign key (berth) references berth (id), constraint heavy check (kg >= 0)
);
create table manifest (no int not null, line int not null, crate int references crate (id), primary key (no, line));
create index crate_berth on crate (berth);
create view moored as select id from berth where vessel is not null;
