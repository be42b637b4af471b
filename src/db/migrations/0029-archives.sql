-- How long a download is, once somebody had to know: whoever goes on after a break asks for a part of it.
alter table archives add length bigint;
