-- A lock that a depot refused to extend, for Watch; null once it was extended.
alter table grants add column lock_refused text, add column lock_refused_at timestamptz;
