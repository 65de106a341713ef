"""The tables of a store, and how an older store becomes one of today.

Each step takes a store from one version to the next, in one transaction; the number of the last one
stands in the store. Times are texts of one length in UTC (RFC 3339), compared byte by byte.
"""

from __future__ import annotations

from catenum.engines.ports.database import Database

_TABLES = """
create table server (
  id {id}, name {text} not null unique, kind {text}, version {text}, url {text});
create table incident (
  id {id}, server {long} not null references server, cycle {int} not null default 0,
  head {text}, "user" {text}, application {text}, host {text}, database {text},
  statement {text}, shape {text}, object {text},
  first_seen {time} not null, last_seen {time} not null, ended {time},
  waiting {int} not null, chain {int} not null, wait_ms {real} not null,
  longest_ms {real} not null, recording {bytes}, heads {int} not null default 1, held_ms {real},
  held_exact {int}, typical_ms {real}, source {text} not null default 'watch');
create index incident_time on incident (first_seen);
create table head (
  incident {long} not null references incident on delete cascade, session {text} not null,
  "user" {text}, application {text}, host {text}, statement {text}, transaction_name {text},
  first_seen {time} not null, last_seen {time} not null, held_ms {real} not null,
  exact {int} not null, waiting {int} not null);
create index head_incident on head (incident);
create table wait_pair (
  incident {long} not null references incident on delete cascade, waiter {text} not null,
  holder {text} not null, object {text}, wait_ms {real} not null);
create index wait_pair_incident on wait_pair (incident);
create table log_wait (
  incident {long} not null references incident on delete cascade, waiter {text} not null,
  application {text}, mode {text}, since {time} not null, until {time}, holders {text},
  statement {text});
create index log_wait_incident on log_wait (incident);
create table note (
  id {id}, incident {long} not null references incident on delete cascade, at {time} not null,
  text {text} not null);
create table deadlock (
  id {id}, server {long} not null, at {time} not null, count {int} not null, report {text},
  source {text} not null default 'watch');
create table gap (
  id {id}, server {long} not null, since {time} not null, until {time}, why {text},
  blind {int} not null default 0);
create table minute (
  server {long} not null, minute {time} not null, shape {text} not null, waiting {int} not null,
  samples {int} not null, blind {int} not null default 0,
  primary key (server, minute, shape)) {rowless};
create table release (
  id {id}, server {long} not null references server, at {time} not null, by {text} not null,
  way {text} not null, session {text} not null, "user" {text}, application {text}, host {text},
  statement {text}, transaction_ms {real}, rows_changed {long}, waiting {int} not null,
  went_on {int} not null, outcome text not null);
create index release_time on release (at);
create table watched (server {long} primary key references server, last_seen {time} not null);
create table rate (
  server {long} not null references server, shape {text} not null, since {time} not null,
  until {time} not null, calls {long} not null, total_ms {real} not null, lock_ms {real},
  primary key (server, shape, since)) {rowless};
"""
#: Questions about a time do not read all of the others; those about looks read them by the hour.
_INDEXES = """
create table hour (
  server {long} not null, hour {time} not null, looks {int} not null, blind {int} not null,
  primary key (server, hour)) {rowless};
insert into hour (server, hour, looks, blind)
  select server, substr(minute, 1, 13), sum(samples - blind), sum(blind) from minute
  where shape = '' group by 1, 2;
create index incident_server on incident (server, first_seen);
create index note_incident on note (incident);
create index deadlock_time on deadlock (at);
create index gap_server on gap (server, since);
create index minute_time on minute (minute);
create index rate_until on rate (until);
"""
#: By the version that a step leads to. Version 1 was never released.
STEPS = {2: _TABLES, 3: _INDEXES}
VERSION = max(STEPS)
#: In the order in which they can be filled.
TABLES = (
    "server",
    "incident",
    "head",
    "wait_pair",
    "log_wait",
    "note",
    "deadlock",
    "gap",
    "minute",
    "hour",
    "release",
    "watched",
    "rate",
)


def migrate(database: Database, version: int) -> None:
    """Take the store from a version to that of today; 0: there is nothing yet. Raises
    DatabaseFault.
    """
    types = database.types
    for number, script in STEPS.items():
        if number > version:
            for statement in script.split(";"):
                if statement.strip():
                    database.execute(statement.format(**types))
