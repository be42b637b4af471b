-- The days on which usage was written down, whoever used what: means over them are the same for a client alone and with others.
create table usage_noted (day date primary key);
insert into usage_noted select distinct day from usage_days;
grant select, insert on usage_noted to deepkeep_app;
