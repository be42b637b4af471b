-- A statement asks for points of a client by their moment, also for those that are gone since.
create index points_of_client on points (client_id, moment) include (source_id, added_bytes);
create index points_ever on points (source_id, moment desc);
