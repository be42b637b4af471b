-- How machines reach a depot themselves, past the console: for a bucket 'presigned', for a folder or share the path under
-- which they see it. Null: all goes through the console.
alter table depots add direct text check (direct is null or (kind = 's3') = (direct = 'presigned'));

-- up to when the place itself keeps a pack from being removed; grows with the points that need it
alter table packs add locked_until timestamptz;

-- how long a pack's chunks are before compressing and sealing: what compression saves
alter table packs add content_bytes bigint;
update packs set content_bytes = size;
alter table packs alter content_bytes set not null;
