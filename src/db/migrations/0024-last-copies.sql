-- Files that a point has and the one after it has not: their last copies. Null while nobody has looked.
alter table points add last_copies int;
