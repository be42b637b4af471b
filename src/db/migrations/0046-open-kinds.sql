-- Kinds of source are a registry of the program; a check here would have to change with each of them.
alter table sources drop constraint sources_kind_check;
alter table connections drop constraint connections_kind_check;
